import { describe, expect, it } from "vitest";
import { FADER_MARKS, faderAt, faderShare } from "./faders";

describe("the fader's scale", () => {
  it("rises from silence to its top and reads back what it shows", () => {
    let last = -1;
    for (let db = -68; db <= 12; db += 0.5) {
      const share = faderShare(db);
      expect(share).toBeGreaterThan(last);
      expect(faderAt(share)).toBeCloseTo(db, 6);
      last = share;
    }
    expect(faderShare(-100)).toBe(0);
    expect(faderAt(0)).toBe(-100);
    expect(faderAt(1)).toBe(12);
  });
  it("gives the last 20 dB below zero the most room, and marks within it", () => {
    const room = (a: number, b: number) => (faderShare(b) - faderShare(a)) / (b - a);
    expect(room(-20, 0)).toBeGreaterThan(1.5 * room(-40, -20));
    for (const mark of FADER_MARKS) expect(faderShare(mark)).toBeGreaterThan(0);
  });
});
