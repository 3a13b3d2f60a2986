import { describe, expect, it } from "vitest";
import type { Move } from "./moves";
import { deepRanges, gutted, takesOf } from "./takes";

const grid = Array.from({ length: 240 }, (_, i) => 20 * 2 ** (i / 24));
const flat = grid.map(() => -40);
const move = (id: number, values: Partial<Move> = {}) => ({ id, mode: "static", shape: "bell", enabled: true, ...values }) as Move;

describe("what a treatment takes", () => {
  it("is told by third octaves and in all", () => {
    const after = grid.map((hz) => (hz > 1000 && hz < 2000 ? -50 : -40));
    const takes = takesOf(grid, flat, after);
    // one of ten octaves keeps a tenth: 10 lg 0.91
    expect(takes.energy_db).toBeCloseTo(10 * Math.log10((216 + 24 * 0.1) / 240), 1);
    expect(takes.thirds.find((t) => Math.round(t.hz) === 1585)?.db).toBeCloseTo(-10, 1);
    expect(takes.thirds.find((t) => Math.round(t.hz) === 501)?.db).toBeCloseTo(0, 6);
  });
  it("says nothing of what a track does not have", () => {
    const lows = grid.map((hz) => (hz < 300 ? -40 : -140));
    expect(takesOf(grid, lows, lows).thirds.every((t) => t.hz < 330)).toBe(true);
  });
  it("is a warning where it is broad and deep, or far softer", () => {
    const deep = new Map([[1, grid.map((hz) => (hz > 300 && hz < 900 ? -9 : 0))]]);
    const ranges = deepRanges(grid, [move(1)], deep);
    expect(ranges).toHaveLength(1);
    expect(gutted(ranges, 0, (hz) => hz.toFixed(0))).toMatch(/^This guts the track: it cuts deeper than 8 dB from 3\d\d to 8\d\d Hz\.$/);
    expect(deepRanges(grid, [move(1, { enabled: false })], deep)).toEqual([]);
    expect(deepRanges(grid, [move(1, { shape: "low_cut" })], deep)).toEqual([]);
    expect(deepRanges(grid, [move(1)], new Map([[1, grid.map((hz) => (hz > 300 && hz < 400 ? -20 : 0))]]))).toEqual([]);
    expect(gutted([], 3.4, String)).toBe("This guts the track: it makes it 3.4 LU softer.");
    expect(gutted([], 2.9, String)).toBe("");
  });
});
