import { describe, expect, it } from "vitest";
import { aloneWith, bandsOf, recounted } from "./rungs";

describe("rungs", () => {
  it("are even on the scale of the ear, without a gap", () => {
    const bands = bandsOf(40);
    expect(bands[0]?.from).toBeCloseTo(20, 6);
    expect(bands[39]?.to).toBeCloseTo(20_000, 3);
    bands.slice(1).forEach((b, i) => expect(b.from).toBeCloseTo(bands[i]?.to ?? 0, 6));
    // Glasberg & Moore 1990: one ERB is 24.7 (4.37 F + 1) Hz wide; 40 of the 40.9 between 20 Hz and 20 kHz
    const middle = bands.find((b) => b.from < 1000 && b.to > 1000);
    expect((middle?.to ?? 0) - (middle?.from ?? 0)).toBeCloseTo((24.7 * (4.37 * (middle?.centre ?? 0)) + 24_700) / 1000 * (40.88 / 40), 0);
  });
  it("keep their curve when there are more or fewer of them", () => {
    expect(recounted([3, 3, 3], 5)).toEqual([3, 3, 3, 3, 3]);
    const up = recounted(Array.from({ length: 26 }, (_, i) => i), 40);
    expect(up[0]).toBeCloseTo(0, 0);
    expect(up[39]).toBeCloseTo(25, 0);
    expect([...up].sort((a, b) => a - b)).toEqual(up);
  });
  it("are heard alone behind everything else", () => {
    const [first, second] = aloneWith(26, new Set([3]));
    expect(first).toEqual(second);
    expect(first?.gains_db?.filter((g) => g === 0)).toHaveLength(1);
    expect(first?.place).toBe("behind");
  });
});
