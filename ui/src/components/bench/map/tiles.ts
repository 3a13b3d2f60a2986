/** The tiles of the time map: fetched when they come into sight, painted anew when the ink changes. */

import { onScopeDispose } from "vue";
import type { MapInfo } from "../../../api/client";
import { cache } from "../../../data/cache";
import { tileQuery } from "../../../data/queries";
import { colour, rgb } from "../../../lib/canvas";
import { countLevels, fullInk, inkRamp } from "./ink";

export interface Tile {
  readonly picture: HTMLCanvasElement;
  readonly columns: number;
}

/** What the tiles show: of which track, and what it sounds like (null: untreated). */
export interface Shown {
  readonly song: number;
  readonly track: number;
  readonly recording: string;
  readonly sound: string | null;
  readonly revision: number;
}

/** A part of the map: its zoom level, tiles, and what is in sight of it in columns and rows. */
export interface Sight {
  readonly level: number;
  readonly tiles: readonly number[];
  readonly columns: readonly [number, number];
  readonly rows: readonly [number, number];
}

export function useTiles(arrived: () => void) {
  const known = new Map<string, Uint8Array | "coming">();
  const painted = new Map<string, { tile: Tile; look: string }>();
  let inkOf = "";
  let full: number | null = null;
  let gone = false;
  onScopeDispose(() => (gone = true));

  const keyOf = (shown: Shown, level: number, index: number) => [shown.track, shown.recording, shown.sound ?? "", level, index].join("/");

  async function fetch(shown: Shown, level: number, index: number, key: string): Promise<void> {
    known.set(key, "coming");
    try {
      known.set(key, await cache.fetchQuery(tileQuery(shown.song, shown.track, shown.recording, level, index, shown.sound, shown.revision)));
    } catch {
      known.delete(key); // told by the cache; asked for again when it is looked at again
      return;
    }
    inkOf = "";
    if (!gone) arrived();
  }

  /** The tiles in sight that are there; the others are fetched. */
  function data(shown: Shown, sight: Sight): Map<number, Uint8Array> {
    const out = new Map<number, Uint8Array>();
    for (const index of sight.tiles) {
      const key = keyOf(shown, sight.level, index);
      const there = known.get(key);
      if (there === undefined) void fetch(shown, sight.level, index, key);
      else if (there !== "coming") out.set(index, there);
    }
    return out;
  }

  /** Where the ramp ends for what is in sight. */
  function inkFor(there: Map<number, Uint8Array>, sight: Sight, map: MapInfo): number | null {
    const name = JSON.stringify([sight, [...there.keys()]]);
    if (name === inkOf) return full;
    const counts = new Uint32Array(256);
    there.forEach((bytes, index) => {
      const first = index * map.tile_columns;
      countLevels(bytes, map.rows, [sight.columns[0] - first, sight.columns[1] - first], sight.rows, counts);
    });
    inkOf = name;
    full = fullInk(counts, map.step_db) ?? full;
    return full;
  }

  function paint(bytes: Uint8Array, map: MapInfo, end: number): Tile {
    const columns = Math.max(1, bytes.length / map.rows);
    const picture = document.createElement("canvas");
    picture.width = columns;
    picture.height = map.rows;
    const g = picture.getContext("2d") as CanvasRenderingContext2D;
    const image = g.createImageData(columns, map.rows);
    const pixels = new Uint32Array(image.data.buffer);
    const ramp = inkRamp(end, map.step_db, rgb(colour("panel")), rgb(colour("ink")));
    for (let c = 0; c < columns; c++) {
      for (let r = 0; r < map.rows; r++) pixels[(map.rows - 1 - r) * columns + c] = ramp[bytes[c * map.rows + r] as number] as number;
    }
    g.putImageData(image, 0, 0);
    return { picture, columns };
  }

  /** The pictures of what is in sight, as far as they are there. */
  function pictures(shown: Shown, sight: Sight, map: MapInfo, theme: string): Map<number, Tile> {
    const there = data(shown, sight);
    const end = inkFor(there, sight, map);
    const out = new Map<number, Tile>();
    if (end === null) return out;
    const look = `${theme}/${end}`;
    there.forEach((bytes, index) => {
      const key = keyOf(shown, sight.level, index);
      let drawn = painted.get(key);
      if (drawn?.look !== look) {
        drawn = { tile: paint(bytes, map, end), look };
        painted.set(key, drawn);
      }
      out.set(index, drawn.tile);
    });
    return out;
  }

  /** Another track: what was painted of the last one is not needed any more. */
  function forget(): void {
    known.clear();
    painted.clear();
    inkOf = "";
    full = null;
  }

  return { pictures, forget };
}
