import { describe, expect, it } from "vitest";
import { type Holds, readEntry } from "./entry";

/** Text, what the field holds, what is read. Notes: ISO 16, A4 = 440 Hz, equal temperament. */
const TABLE: readonly [string, Holds, number | null][] = [
  ["412", "hz", 412], ["412 Hz", "hz", 412], ["1.8k", "hz", 1800], ["1,8 k", "hz", 1800], ["1.8 kHz", "hz", 1800], [" 97.3 ", "hz", 97.3],
  ["637/2", "hz", 318.5], ["2*220", "hz", 440], ["440*2/3", "hz", 293.3333], ["1k+50", "hz", 1050], ["1\u202f842", "hz", 1842], ["(100+20)*2", "hz", 240],
  ["A4", "hz", 440], ["a3", "hz", 220], ["G#4", "hz", 415.3047], ["g♯4", "hz", 415.3047], ["Ab4", "hz", 415.3047], ["C-1", "hz", 8.1758],
  ["G#4-12c", "hz", 412.4361], ["G#4 \u2212 12 ct", "hz", 412.4361], ["A4+50", "hz", 452.8930], ["Bb2", "hz", 116.5409], ["Cb4", "hz", 246.9417], ["E#4", "hz", 349.2282],
  ["1/3 oct", "octaves", 1 / 3], ["1/3", "octaves", 1 / 3], ["0.5", "octaves", 0.5], ["0,1 oct", "octaves", 0.1], ["Q 14", "octaves", 0.1030], ["q=1.414", "octaves", 1.0001],
  ["2 octaves", "octaves", 2], [".25", "octaves", 0.25], ["14", "q", 14], ["Q 14", "q", 14], ["1/3 oct", "q", 4.3185], ["1 oct", "q", 1.4142],
  ["-3 dB", "db", -3], ["\u22123", "db", -3], ["+2.5dB", "db", 2.5], ["-6/2", "db", -3], ["--3", "db", 3], ["3-6", "db", -3],
  ["50 %", "number", 50], ["20 ms", "number", 20], ["4:1", "number", 4], ["1.5 s", "number", 1.5], ["3", "number", 3], ["-0", "db", 0],
  ["", "hz", null], ["abc", "hz", null], ["H4", "hz", null], ["A", "hz", null], ["4 dB", "hz", null], ["1/0", "db", null],
  ["12..5", "db", null], ["3 +", "db", null], ["(3", "db", null], ["Q 0", "octaves", null], ["-1", "q", null], ["A4", "db", null],
  ["1e3", "hz", null], ["0x10", "hz", null], ["9".repeat(61), "hz", null], ["Infinity", "db", null],
];

describe("numbers as they are typed", () => {
  it.each(TABLE)("%j in a field of %s is %j", (text, holds, wanted) => {
    const read = readEntry(text, holds);
    if (wanted === null) expect(read).toBeNull();
    else expect(read).toBeCloseTo(wanted, 3);
  });
  it("has sixty and more", () => expect(TABLE.length).toBeGreaterThanOrEqual(60));
});
