import { describe, expect, it } from "vitest";
import { type Node, type Place, isWithin, rowsOf, stepped } from "./tree";

const track = (id: number, parent_id: number | null = null): Node => ({ id, kind: "track", parent_id });
const group = (id: number, parent_id: number | null = null): Node => ({ id, kind: "group", parent_id });
const mix: Node = { id: 99, kind: "mix", parent_id: null };
/** 1, group 10 (2, group 20 (3), 4), 5. */
const SONG = [mix, track(1), group(10), track(2, 10), group(20, 10), track(3, 20), track(4, 10), track(5)];
const ids = (rows: { strip: Node }[]) => rows.map((r) => r.strip.id);

describe("the strips as rows", () => {
  it("stand below their group, the mix last", () => {
    const rows = rowsOf(SONG);
    expect(ids(rows)).toEqual([1, 10, 2, 20, 3, 4, 5, 99]);
    expect(rows.map((r) => r.depth)).toEqual([0, 0, 1, 1, 2, 1, 0, 0]);
    expect(rows.map((r) => r.holds)).toEqual([1, 3, 1, 1, 1, 1, 1, 5]);
  });

  it("are left out in a folded group, and run into the mix where a group is gone", () => {
    expect(ids(rowsOf(SONG, new Set([10])))).toEqual([1, 10, 5, 99]);
    expect(ids(rowsOf([mix, track(1, 77)]))).toEqual([1, 99]);
  });

  it("know what lies in what", () => {
    expect(isWithin(SONG, 3, 10)).toBe(true);
    expect(isWithin(SONG, 10, 10)).toBe(true);
    expect(isWithin(SONG, 1, 10)).toBe(false);
  });
});

/** As the server puts it: taken out, then in front of another, or behind all. */
function put(strips: readonly Node[], id: number, { parent, before }: Place): Node[] {
  const moved: Node = { ...(strips.find((s) => s.id === id) ?? mix), parent_id: parent };
  const rest = strips.filter((s) => s.id !== id);
  const at = before === null ? rest.length : rest.findIndex((s) => s.id === before);
  return [...rest.slice(0, at), moved, ...rest.slice(at)];
}

describe("a step", () => {
  it.each([-1, 1] as const)("by %i goes through every place and ends at the edge", (by) => {
    for (const start of [1, 2, 3, 4, 5, 20]) {
      let strips: Node[] = SONG;
      const seen = new Set<string>();
      for (;;) {
        const rows = rowsOf(strips);
        const looks = rows.map((r) => `${r.strip.id}@${r.depth}`).join(" ");
        expect(seen.has(looks)).toBe(false); // every step changes something, and none comes back
        seen.add(looks);
        const place = stepped(rows, start, by);
        if (!place) break;
        strips = put(strips, start, place);
      }
      const rest = ids(rowsOf(strips)).filter((id) => id !== 99);
      expect(by < 0 ? rest[0] : rest.at(start === 20 ? -2 : -1)).toBe(start);
    }
  });

  it("takes a track into an open group, past a folded one", () => {
    expect(stepped(rowsOf(SONG), 1, 1)).toEqual({ parent: 10, before: 2 });
    expect(stepped(rowsOf(SONG, new Set([10])), 1, 1)).toEqual({ parent: null, before: 5 });
    expect(stepped(rowsOf(SONG), 5, -1)).toEqual({ parent: 10, before: null });
    expect(stepped(rowsOf(SONG), 2, -1)).toEqual({ parent: null, before: 10 });
    expect(stepped(rowsOf(SONG), 4, 1)).toEqual({ parent: null, before: 5 });
  });

  it("does not move the mix", () => expect(stepped(rowsOf(SONG), 99, -1)).toBe(null));
});
