import { describe, expect, it } from "vitest";
import type { Finding } from "../api/client";
import { figureOf, lookState, place, proposal, reasons } from "./findings";

function finding(values: Partial<Finding["document"]>): Finding {
  return {
    id: 1, track_id: 1, state: "open", move_id: null, left_db: null, in_tracks: 1, song_says: "",
    document: {
      kind: "ring", frequency_hz: 412, note: "G♯4", cents: -14, bandwidth_oct: 0.08, excess_db: 9.2, confidence: 0.9, share_of_time: 0.4,
      moments: [], similar: null, worst_s: 3, loop_s: [2, 6], after_db: 0.4, ring_ms: 420.4, own_ring_ms: 61, slope_db_per_db: 0, harmonic: "", threshold_db: null,
      takes_db: -0.31, says: "", move: { shape: "bell", frequency_hz: 412, q: 18, gain_db: -6.2, mode: "static", enabled: true },
      ...values,
    },
  };
}

describe("words of a finding", () => {
  it("says where it is and what would be done", () => {
    expect(place(finding({}))).toBe("412 Hz G♯4 −14 ct");
    expect(proposal(finding({}))).toBe("−6.2 dB");
    const rumble = finding({ kind: "rumble", move: { shape: "low_cut", frequency_hz: 67, slope_db_per_octave: 24, mode: "static", enabled: true } });
    expect(proposal(rumble)).toBe("low cut 67.0 Hz");
  });
  it("tells a look that waits from one that runs", () => {
    expect(lookState({ state: "waiting", progress: 0 })).toBe("waits for a look");
    expect(lookState({ state: "running", progress: 0.42 })).toBe("looking 42 %");
    expect(lookState(null)).toBe("");
  });
  it("does not say of what comes and goes that it stays", () => {
    const said = reasons(finding({ moments: [[1, 2], [3, 4]], similar: 0.9 })).join(" ");
    expect(said).toContain("At 2 like moments");
    expect(said).not.toContain("It stays");
  });
  it("gives the reasons of a ring with its own ring time", () => {
    const said = reasons(finding({})).join(" ");
    expect(said).toContain("Stands out 40 % of the sounding time.");
    expect(said).toContain("It stays while the notes change.");
    expect(said).toContain("Rings 420 ms; a filter so narrow 61 ms.");
    expect(said).toContain("After the cut: 0.4 dB left.");
    expect(said).toContain("The cut takes 0.3 dB from the rest.");
  });
  it("names a harmonic, a threshold, moments and what has to be told", () => {
    expect(reasons(finding({ harmonic: "harmonic 3 of A2 (110 Hz)" })).join(" ")).toContain("It may be harmonic 3 of A2 (110 Hz).");
    const said = reasons(finding({ kind: "sibilance", moments: [[1, 1.1], [2, 2.1]], similar: 0.9, threshold_db: -30, says: "A static cut." })).join(" ");
    expect(said).toContain("At 2 like moments");
    expect(said).toContain("A static cut.");
    expect(said).toContain("above −30 dBFS");
  });
  it("has a shape of its own for each sort", () => {
    expect(figureOf("own tone")).toBe("narrow");
    expect([figureOf("ring"), figureOf("box"), figureOf("plosive"), figureOf("rumble")]).toEqual(["narrow", "broad", "moments", "floor"]);
  });
});
