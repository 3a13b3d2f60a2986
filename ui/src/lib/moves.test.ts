import { describe, expect, it } from "vitest";
import { dragAxis, octavesOfQ, probeRingMs, qOfOctaves } from "./moves";

describe("bandwidth", () => {
  it("matches the published pairs of octaves and Q", () => {
    // Audio EQ Cookbook: sqrt(2^N) / (2^N - 1)
    for (const [octaves, q] of [[0.1, 14.42], [1 / 3, 4.32], [1, 1.414], [1.5, 0.92]] as const) {
      expect(qOfOctaves(octaves)).toBeCloseTo(q, q > 10 ? 1 : 2);
      expect(octavesOfQ(qOfOctaves(octaves))).toBeCloseTo(octaves, 10);
    }
  });
});

describe("dragging a handle", () => {
  it("waits until it is clear where the drag goes", () => {
    expect(dragAxis(2, 1, false, null)).toBeNull();
  });
  it("holds the frequency while the gain is dragged, and the other way round", () => {
    expect(dragAxis(9, 3, false, null)).toBe("gain");
    expect(dragAxis(3, 9, false, null)).toBe("frequency");
    expect(dragAxis(3, 90, false, "gain")).toBe("gain");
  });
  it("sets both when asked to", () => {
    expect(dragAxis(1, 0, true, "gain")).toBe("both");
  });
});

describe("the probe's own ring", () => {
  it("is 2.2 Q / f of the resonance that it makes", () => {
    // 1/10 octave is Q 14.42; listened to alone: 2.2 * 14.42 / 412 Hz = 77 ms
    expect(probeRingMs(412, { octaves: 0.1, gain_db: 12, mode: "alone" })).toBe(77);
    // boosted by 12 dB the poles are narrower by 10^(12/40) = 1.995
    expect(probeRingMs(412, { octaves: 0.1, gain_db: 12, mode: "boost" })).toBe(154);
  });
});
