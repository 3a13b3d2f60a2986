import { describe, expect, it } from "vitest";
import { countLevels, fullInk, inkRamp } from "./ink";

const ROWS = 4;
const tile = (columns: number[][]) => Uint8Array.from(columns.flat());

describe("the ink of the map", () => {
  it("is counted in what is in sight alone", () => {
    const counts = new Uint32Array(256);
    const data = tile([[1, 2, 3, 4], [5, 6, 7, 8], [9, 9, 9, 9]]);
    countLevels(data, ROWS, [1, 2], [1, 3], counts);
    expect([...counts.entries()].filter(([, n]) => n)).toEqual([[6, 1], [7, 1]]);
    countLevels(data, ROWS, [-5, 99], [-5, 99], counts);
    expect(counts.reduce((a, b) => a + b)).toBe(2 + 12);
  });
  it("ends where the loudest in sight is, so that a soft passage is as dark as a loud one", () => {
    const loud = new Uint32Array(256);
    const soft = new Uint32Array(256);
    loud.fill(20, 150, 200);
    soft.fill(20, 60, 110);
    const [a, b] = [fullInk(loud, 0.5), fullInk(soft, 0.5)];
    expect(a).toBeGreaterThanOrEqual(195);
    expect(a).toBeLessThan(206);
    expect((a as number) - (b as number)).toBe(90);
  });
  it("is not led by a few points that are far louder", () => {
    const counts = new Uint32Array(256);
    counts[100] = 10_000;
    counts[250] = 5;
    expect(fullInk(counts, 0.5)).toBe(102);
    expect(fullInk(new Uint32Array(256), 0.5)).toBeNull();
  });
  it("goes from paper to ink and never back", () => {
    const ramp = new Uint8Array(inkRamp(200, 0.5, [250, 250, 240], [30, 40, 50]).buffer);
    expect([...ramp.slice(0, 4)]).toEqual([250, 250, 240, 255]);
    expect([...ramp.slice(4 * 200, 4 * 200 + 4)]).toEqual([30, 40, 50, 255]);
    for (let v = 1; v < 256; v++) expect(ramp[4 * v] as number).toBeLessThanOrEqual(ramp[4 * (v - 1)] as number);
  });
});
