import { describe, expect, it } from "vitest";
import {
  WHOLE, frequencyTicks, frequencyToY, mapLevel, noteTicks, panFrequency, pulledTo, timeToX, valueAt, xToTime, yToFrequency, zoomFrequency,
  zoomTime,
} from "./axis";

describe("the frequency axis", () => {
  it("has low at the bottom and an octave the same height everywhere", () => {
    expect(frequencyToY(20, WHOLE, 500)).toBeCloseTo(500);
    expect(frequencyToY(20480, WHOLE, 500)).toBeCloseTo(0);
    const low = frequencyToY(100, WHOLE, 500) - frequencyToY(200, WHOLE, 500);
    expect(frequencyToY(4000, WHOLE, 500) - frequencyToY(8000, WHOLE, 500)).toBeCloseTo(low);
  });
  it("reads back the frequency that it drew", () => {
    for (const hz of [23, 412, 9999]) expect(yToFrequency(frequencyToY(hz, WHOLE, 517), WHOLE, 517)).toBeCloseTo(hz);
  });
  it("keeps the frequency under the pointer in its place while zooming", () => {
    const closer = zoomFrequency(WHOLE, 1000, 3);
    expect(frequencyToY(1000, closer, 500)).toBeCloseTo(frequencyToY(1000, WHOLE, 500));
    expect(zoomFrequency(closer, 1000, 0.01)).toEqual({ low: 20, high: 20480 });
  });
  it("never pans off its ends", () => {
    expect(panFrequency(WHOLE, -3).low).toBe(20);
    expect(panFrequency(zoomFrequency(WHOLE, 20000, 4), 9).high).toBeCloseTo(20480);
  });
  it("labels notes by their places, more of them the closer one looks", () => {
    const whole = noteTicks(WHOLE);
    expect(whole[0]).toBeCloseTo(32.703, 3); // C1 (ISO 16: A4 is 440 Hz)
    for (let i = 1; i < whole.length; i++) expect((whole[i] as number) / (whole[i - 1] as number)).toBeCloseTo(2);
    const natural = noteTicks({ low: 220, high: 880 * 1.001 });
    expect(natural).toHaveLength(15);
    expect(natural.map(Math.round)).toContain(440);
    expect(noteTicks({ low: 430, high: 600 }).map((hz) => Number(hz.toFixed(2)))).toEqual([440, 466.16, 493.88, 523.25, 554.37, 587.33]);
    expect(noteTicks({ low: 441, high: 442 })).toEqual([]);
  });
  it("labels between three and twenty frequencies at any zoom", () => {
    for (const factor of [1, 2, 4, 8, 15, 20]) {
      const ticks = frequencyTicks(zoomFrequency(WHOLE, 700, factor));
      expect(ticks.length, `zoom ${factor}`).toBeGreaterThanOrEqual(3);
      expect(ticks.length, `zoom ${factor}`).toBeLessThanOrEqual(21);
    }
  });
});

describe("the time axis", () => {
  it("reads back the time that it drew, and zooms around the pointer", () => {
    const range = { from: 10, to: 18 };
    expect(xToTime(timeToX(12.5, range, 360), range, 360)).toBeCloseTo(12.5);
    const closer = zoomTime(range, 12, 2, 80);
    expect(closer.to - closer.from).toBeCloseTo(4);
    expect(timeToX(12, closer, 360)).toBeCloseTo(timeToX(12, range, 360));
  });
  it("chooses the map's level with about a column a pixel", () => {
    expect(mapLevel(0.01, { from: 0, to: 3.6 }, 360, 7)).toBe(0);
    expect(mapLevel(0.01, { from: 0, to: 57.6 }, 360, 7)).toBe(4);
    expect(mapLevel(0.01, { from: 0, to: 5760 }, 360, 7)).toBe(6);
  });
});

describe("reading a curve", () => {
  it("gives the value between two points, and nothing without points", () => {
    expect(valueAt([100, 200, 400], [0, 10, 20], 200)).toBeCloseTo(10);
    expect(valueAt([100, 200, 400], [0, 10, 20], Math.sqrt(2) * 200)).toBeCloseTo(15);
    expect(valueAt([], [], 200)).toBeNull();
  });
});

describe("the pull of what stands out", () => {
  const spots = [{ hz: 800, octaves: 0.1 }, { hz: 3000, octaves: 0.3 }];
  it("leaves the line alone away from all spots", () => {
    expect(pulledTo(1200, spots)).toBe(1200);
    expect(pulledTo(1200, [])).toBe(1200);
  });
  it("draws it nearer to a spot but never past it, and lets it out again", () => {
    for (const cents of [-45, -20, -5, 5, 20, 45]) {
      const from = 800 * 2 ** (cents / 1200);
      const to = pulledTo(from, spots);
      expect(Math.sign(Math.log2(to / 800))).toBe(Math.sign(cents));
      expect(Math.abs(Math.log2(to / 800))).toBeLessThan(Math.abs(Math.log2(from / 800)));
    }
    expect(pulledTo(800 * 2 ** 0.051, spots)).toBeCloseTo(800 * 2 ** 0.051);
  });
  it("moves with the pointer all the time", () => {
    let last = 0;
    for (let hz = 740; hz < 870; hz += 2) {
      const to = pulledTo(hz, spots);
      expect(to).toBeGreaterThanOrEqual(last);
      last = to;
    }
  });
});
