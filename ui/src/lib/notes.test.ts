import { describe, expect, it } from "vitest";
import { readEntry } from "./entry";
import { asNote, noteOf, writeHz, writeNote, writeTime, writeSize } from "./notes";

describe("notes", () => {
  it("follow ISO 16 in equal temperament", () => {
    expect(noteOf(440)).toEqual({ name: "A4", cents: 0 });
    expect(noteOf(739.99)).toEqual({ name: "F♯5", cents: 0 }); // ISO 16: F#5 = 739.99 Hz
    expect(noteOf(261.626).name).toBe("C4");
    expect(noteOf(452)).toEqual({ name: "A4", cents: 47 });
    expect(writeNote(435)).toBe("A4 \u221220 ct");
  });
  it("are written as they are typed where room is short", () => {
    expect([440, 445, 136.5, 27.5].map(asNote)).toEqual(["A4", "A4+20c", "C♯3\u221226c", "A0"]);
    for (const hz of [440, 445, 136.5, 12345]) expect(Math.abs(1200 * Math.log2((readEntry(asNote(hz), "hz") ?? 1) / hz))).toBeLessThan(0.6);
  });
});

describe("figures", () => {
  it("are written as an engineer reads them", () => {
    expect(writeHz(97.34)).toBe("97.3");
    expect(writeHz(1842)).toBe("1\u202f842");
    expect(writeTime(64.26)).toBe("1:04.3");
    expect(writeTime(59.97)).toBe("1:00.0");
    expect(writeTime(134, 0)).toBe("2:14");
  });
});

describe("sizes", () => {
  it.each([[0, "0 kB"], [999, "1 kB"], [1_000_000, "1.0 MB"], [48_230_000, "48.2 MB"], [12_340_000_000, "12.3 GB"]])("of %d bytes are written for people", (bytes, text) => {
    expect(writeSize(bytes)).toBe(text);
  });
});
