import { describe, expect, it } from "vitest";
import { isPlaced, markedFrom, referencesDiffer } from "./placing";

const track = (reference_s: number | null, starts_at_s = 0) => ({ reference_s, starts_at_s });

describe("beginnings", () => {
  it("differ only where two files say other times", () => {
    expect(referencesDiffer([track(null), track(null)])).toBe(false);
    expect(referencesDiffer([track(3600), track(null)])).toBe(false);
    expect(referencesDiffer([track(3600), track(3600 + 1e-8)])).toBe(false);
    expect(referencesDiffer([track(3600), track(3612.5)])).toBe(true);
  });

  it("are as the files say where all have the same origin", () => {
    expect(isPlaced([track(3600), track(3612.5, 12.5), track(null)])).toBe(true);
    expect(isPlaced([track(3600), track(3612.5)])).toBe(false);
    expect(isPlaced([track(null)])).toBe(false);
  });
});

describe("markers", () => {
  const markers = [{ at_s: 1, label: "verse" }, { at_s: 1.02, label: "again" }, { at_s: 9, label: "" }];

  it("reach to the next one that is apart, the last one to the end", () => {
    expect(markedFrom(markers, 0, 20)).toEqual({ from: 1, to: 9 });
    expect(markedFrom(markers, 2, 20)).toEqual({ from: 9, to: 20 });
    expect(markedFrom(markers, 2, 5)).toEqual({ from: 9, to: 9 });
  });
});
