import { describe, expect, it } from "vitest";
import type { Clash } from "../api/client";
import { columnsOf, idOf, moveWords, percent, rangeWords, wayOf } from "./clashes";
import type { Move } from "./moves";

const clash = (covered: number, by: number): Clash => ({
  covered, by, from_hz: 400, to_hz: 900, lost: 0.1, hidden: 1, share_of_time: 0.5, moments: [[1, 2]], phrase: [0, 6], keeps: covered, proposed: covered, why: "",
});

describe("columns", () => {
  const tracks = Array.from({ length: 12 }, (_, i) => i + 1);
  it("shows all of a small song, in its order", () => expect(columnsOf([3, 1, 2], [clash(1, 2)], null)).toEqual([3, 1, 2]));
  it("shows at most eight, those that clash first, still in the song's order", () => {
    const shown = columnsOf(tracks, [clash(12, 7), clash(3, 11)], null);
    expect(shown).toHaveLength(8);
    expect(shown).toEqual([...shown].sort((a, b) => a - b));
    for (const id of [12, 7, 3, 11]) expect(shown).toContain(id);
  });
  it("shows a chosen track with those that it clashes with, whatever else clashes", () => {
    const many = [1, 2, 3, 4].flatMap((i) => [clash(i, i + 4)]);
    const shown = columnsOf(tracks, [...many, clash(12, 11), clash(10, 12)], 12);
    for (const id of [12, 11, 10]) expect(shown).toContain(id);
  });
});

describe("words", () => {
  it("writes ranges as a person would", () => {
    expect(rangeWords(1900, 3500)).toBe("1.9–3.5 kHz");
    expect(rangeWords(79, 120)).toBe("79–120 Hz");
    expect(rangeWords(5863.2, 12_709)).toBe("5.9–13 kHz");
  });
  it("writes shares", () => expect([percent(0.053), percent(0.099), percent(0.1), percent(1)]).toEqual(["5.3 %", "9.9 %", "10 %", "100 %"]));
  it("says when a carve acts", () => {
    const move = { mode: "dynamic", shape: "bell", frequency_hz: 2550, q: 1.414, gain_db: 0, range_db: -2, key: { source: 8 } } as unknown as Move;
    expect(moveWords(move, () => "Narrator")).toContain("1.0 oct, −2.0 dB while Narrator sounds");
  });
  it("keeps a clash's name while its values move a little", () => {
    expect(idOf({ ...clash(1, 2), from_hz: 402, to_hz: 905 })).toBe(idOf(clash(1, 2)));
    expect(idOf({ ...clash(1, 2), from_hz: 1600, to_hz: 3600 })).not.toBe(idOf(clash(1, 2)));
  });
});

describe("who keeps a place", () => {
  const d = (covered: number, by: number, way: "covered" | "by" | "share", from_hz = 400, to_hz = 900) => ({ covered, by, way, from_hz, to_hz });

  it("is as proposed until it is decided", () => {
    expect(wayOf(clash(1, 2), [])).toEqual({ way: "covered", decided: false });
    expect(wayOf({ ...clash(1, 2), proposed: 2 }, [d(1, 3, "covered")])).toEqual({ way: "by", decided: false });
  });

  it("is as decided, also where the two are told the other way round", () => {
    expect(wayOf(clash(1, 2), [d(1, 2, "by")])).toEqual({ way: "by", decided: true });
    expect(wayOf(clash(1, 2), [d(2, 1, "by")])).toEqual({ way: "covered", decided: true });
    expect(wayOf(clash(1, 2), [d(2, 1, "share")])).toEqual({ way: "share", decided: true });
  });

  it("is decided for a place, not for the whole of two tracks", () => {
    expect(wayOf(clash(1, 2), [d(1, 2, "by", 3000, 5000)]).decided).toBe(false);
    expect(wayOf(clash(1, 2), [d(1, 2, "by", 450, 1100)]).decided).toBe(true);
  });
});
