/** What a treatment takes away: energy per third octave and in all, and whether it guts the track. */

import type { Move } from "./moves";
import { hasSlope, shapeOf } from "./moves";

export interface Third {
  readonly hz: number;
  readonly db: number;
}

export interface Takes {
  /** Change of the energy of all frequencies, in dB. */
  readonly energy_db: number;
  /** By nominal centre, only where the track has something. */
  readonly thirds: readonly Third[];
}

/** Third octaves, base ten (IEC 61260-1). */
const centre = (n: number) => 1000 * 10 ** (n / 10);
const QUIET_DB = 60;

/** From two profiles in bands of the same width, over the same frequencies. */
export function takesOf(hz: readonly number[], before: readonly number[], after: readonly number[]): Takes {
  const power = (levels: readonly number[], from: number, to: number) =>
    hz.reduce((sum, f, i) => (f >= from && f < to ? sum + 10 ** ((levels[i] ?? -200) / 10) : sum), 0);
  const thirds: { hz: number; was: number; is: number }[] = [];
  for (let n = -17; n <= 13; n++) {
    const [from, to] = [centre(n - 0.5), centre(n + 0.5)];
    thirds.push({ hz: centre(n), was: power(before, from, to), is: power(after, from, to) });
  }
  const loudest = Math.max(...thirds.map((t) => t.was), 1e-20);
  const db = (is: number, was: number) => 10 * Math.log10(Math.max(is, 1e-20) / Math.max(was, 1e-20));
  return {
    energy_db: db(power(after, 0, Infinity), power(before, 0, Infinity)),
    thirds: thirds.filter((t) => t.was > loudest * 10 ** (-QUIET_DB / 10)).map((t) => ({ hz: t.hz, db: db(t.is, t.was) })),
  };
}

const BROAD_OCT = 1;
const DEEP_DB = -8;
const MOST_LU = 3;

/** Where moves together cut deeper than 8 dB over an octave and more; cuts of the ends are there to do so. */
export function deepRanges(grid: readonly number[], moves: readonly Move[], each: ReadonlyMap<number, ArrayLike<number>>): [number, number][] {
  const shaping = moves.filter((m) => m.enabled && (m.mode === "rungs" || !hasSlope(shapeOf(m))) && each.has(m.id)).map((m) => each.get(m.id) as ArrayLike<number>);
  const found: [number, number][] = [];
  let from: number | null = null;
  for (let i = 0; i <= grid.length; i++) {
    const deep = i < grid.length && shaping.reduce((sum, curve) => sum + (curve[i] ?? 0), 0) < DEEP_DB;
    if (deep && from === null) from = i;
    if (!deep && from !== null) {
      const [low, high] = [grid[from] as number, grid[i - 1] as number];
      if (Math.log2(high / low) >= BROAD_OCT) found.push([low, high]);
      from = null;
    }
  }
  return found;
}

/** A plain warning where a treatment takes more than a mix bears; nothing otherwise. `lu`: by how much it made the track softer. */
export function gutted(ranges: readonly [number, number][], lu: number, write: (hz: number) => string): string {
  const parts = ranges.map(([low, high]) => `cuts deeper than 8 dB from ${write(low)} to ${write(high)} Hz`);
  if (lu > MOST_LU) parts.push(`makes it ${lu.toFixed(1)} LU softer`);
  return parts.length ? `This guts the track: it ${parts.join(" and ")}.` : "";
}
