/** Rungs: bands evenly spaced in ERB numbers from 20 Hz to 20 kHz (Glasberg & Moore 1990), as the server has them. */

import type { NewMove } from "./moves";

export const FEWEST = 26;
export const MOST = 40;
export const USUAL = 33;
export const GREATEST_DB = 24;

export interface Rung {
  readonly from: number;
  readonly centre: number;
  readonly to: number;
}

const number = (hz: number) => 21.4 * Math.log10((4.37 * hz) / 1000 + 1);
const frequency = (erb: number) => ((10 ** (erb / 21.4) - 1) * 1000) / 4.37;

export function bandsOf(count: number): Rung[] {
  const [low, high] = [number(20), number(20_000)];
  const at = (i: number) => frequency(low + ((high - low) * i) / count);
  return Array.from({ length: count }, (_, i) => ({ from: at(i), centre: at(i + 0.5), to: at(i + 1) }));
}

/** Other gains of so many bands: those of the old ones at their places. */
export function recounted(gains: readonly number[], count: number): number[] {
  return Array.from({ length: count }, (_, i) => {
    const place = ((i + 0.5) / count) * gains.length - 0.5;
    const low = Math.max(0, Math.min(gains.length - 1, Math.floor(place)));
    const high = Math.min(gains.length - 1, low + 1);
    const share = Math.min(1, Math.max(0, place - low));
    return Number(((gains[low] ?? 0) * (1 - share) + (gains[high] ?? 0) * share).toFixed(2));
  });
}

/** Moves that leave only some rungs to be heard: all others are 48 dB down. */
export function aloneWith(count: number, heard: ReadonlySet<number>): NewMove[] {
  const gains_db = Array.from({ length: count }, (_, i) => (heard.has(i) ? 0 : -GREATEST_DB));
  return [0, 1].map(() => ({ mode: "rungs", count, gains_db, place: "behind", enabled: true }) as NewMove);
}
