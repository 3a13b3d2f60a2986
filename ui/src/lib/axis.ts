/** Geometry of the one frequency axis: logarithmic, low at the bottom; and of time and level. Pure functions. */

import { type ScaleLinear, type ScaleLogarithmic, scaleLinear, scaleLog } from "d3-scale";

export type Hz = number;
export type Seconds = number;
export type Decibels = number;

export const LOWEST: Hz = 20;
export const HIGHEST: Hz = 20480;
const SHORTEST_OCTAVES = 0.5;

/** What of the axis is shown, bottom to top. */
export interface FrequencyRange {
  readonly low: Hz;
  readonly high: Hz;
}

export const WHOLE: FrequencyRange = { low: LOWEST, high: HIGHEST };

const octaves = (range: FrequencyRange) => Math.log2(range.high / range.low);

/** A curve asks for the same scale many times: the last one is kept. */
let drawn: { range: FrequencyRange; height: number; scale: ScaleLogarithmic<number, number> } | null = null;

function frequencyScale(range: FrequencyRange, height: number): ScaleLogarithmic<number, number> {
  if (drawn?.range !== range || drawn.height !== height) {
    drawn = { range, height, scale: scaleLog([range.low, range.high], [height, 0]) };
  }
  return drawn.scale;
}

/** Distance from the top in pixels. */
export const frequencyToY = (hz: Hz, range: FrequencyRange, height: number): number => frequencyScale(range, height)(hz);

export const yToFrequency = (y: number, range: FrequencyRange, height: number): Hz => frequencyScale(range, height).invert(y);

function fitted(low: Hz, span: number): FrequencyRange {
  const whole = octaves(WHOLE);
  const kept = Math.min(whole, Math.max(SHORTEST_OCTAVES, span));
  const bottom = Math.min(Math.max(low, LOWEST), HIGHEST / 2 ** kept);
  return { low: bottom, high: bottom * 2 ** kept };
}

/** Zoom by a factor (above 1: closer) with `around` held in its place. */
export function zoomFrequency(range: FrequencyRange, around: Hz, factor: number): FrequencyRange {
  const share = Math.log2(around / range.low) / octaves(range);
  const span = Math.min(octaves(WHOLE), Math.max(SHORTEST_OCTAVES, octaves(range) / factor));
  return fitted(around / 2 ** (share * span), span);
}

/** Move what is shown up or down by octaves. */
export function panFrequency(range: FrequencyRange, by: number): FrequencyRange {
  return fitted(range.low * 2 ** by, octaves(range));
}

export function clampFrequency(hz: Hz): Hz {
  return Math.min(20000, Math.max(20, hz));
}

/** Labelled frequencies: 1, 2, 5 a decade, closer ones when zoomed in. */
export function frequencyTicks(range: FrequencyRange): Hz[] {
  const shown = octaves(range);
  if (shown <= 1.5) return scaleLinear([range.low, range.high], [0, 1]).ticks(8);
  const digits = shown > 4 ? [1, 2, 5] : [1, 2, 3, 4, 5, 7];
  const digit = (hz: Hz) => Math.round(hz / 10 ** Math.floor(Math.log10(hz) + 1e-9));
  return scaleLog([range.low, range.high], [0, 1]).ticks().filter((hz) => digits.includes(digit(hz)));
}

/** The number of a note, with parts of a semitone: A4 = 440 Hz is 69 (ISO 16; MIDI 1.0). */
export const midiOf = (hz: Hz): number => 69 + 12 * Math.log2(hz / 440);

/** Frequencies of notes to be labelled (ISO 16): every C, closer the natural notes, closest all. */
export function noteTicks(range: FrequencyRange): Hz[] {
  const shown = octaves(range);
  const wanted = shown > 4 ? [0] : shown > 1.5 ? [0, 2, 4, 5, 7, 9, 11] : [0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11];
  const [low, high] = [Math.ceil(midiOf(range.low)), Math.floor(midiOf(range.high))];
  return Array.from({ length: Math.max(0, high - low + 1) }, (_, i) => low + i).filter((n) => wanted.includes(((n % 12) + 12) % 12)).map((n) => 440 * 2 ** ((n - 69) / 12));
}

/** Levels from left to right over a width. */
export const levelScale = (low: Decibels, high: Decibels, width: number): ScaleLinear<number, number> => scaleLinear([low, high], [0, width]);

/** Levels to be labelled: the multiples of a step within a scale. */
export const levelTicks = (low: Decibels, high: Decibels, step: Decibels): Decibels[] =>
  Array.from({ length: Math.floor(high / step) - Math.ceil(low / step) + 1 }, (_, i) => (Math.ceil(low / step) + i) * step);

/** Critical band edges in Hz (Zwicker 1961; from memory): the rungs of the ruler. */
export const RUNGS: readonly Hz[] = [
  100, 200, 300, 400, 510, 630, 770, 920, 1080, 1270, 1480, 1720, 2000, 2320, 2700, 3150, 3700, 4400, 5300, 6400,
  7700, 9500, 12000, 15500,
];

/**
 * Where a swept line comes to lie when a spot of a certain width is near: drawn towards its centre, gently, so that
 * the line slows down there and can still be moved away. A spot reaches half of its width, at least 1/24 octave.
 */
export function pulledTo(hz: Hz, spots: readonly { hz: Hz; octaves: number }[]): Hz {
  let best = hz;
  let nearest = 1;
  for (const spot of spots) {
    const away = Math.log2(hz / spot.hz);
    const share = Math.abs(away) / Math.max(1 / 24, Math.min(0.25, spot.octaves / 2));
    if (share < nearest) {
      nearest = share;
      best = spot.hz * 2 ** (away * share);
    }
  }
  return best;
}

/** What of the time is shown. */
export interface TimeRange {
  readonly from: Seconds;
  readonly to: Seconds;
}

const timeScale = (range: TimeRange, width: number) => scaleLinear([range.from, range.to], [0, width]);

export const timeToX = (s: Seconds, range: TimeRange, width: number): number => timeScale(range, width)(s);

export const xToTime = (x: number, range: TimeRange, width: number): Seconds => timeScale(range, width).invert(x);

/** Zoom by a factor (above 1: closer) around a time, within 0 to `end`. */
export function zoomTime(range: TimeRange, around: Seconds, factor: number, end: Seconds): TimeRange {
  const span = Math.min(end, Math.max(0.25, (range.to - range.from) / factor));
  const share = (around - range.from) / (range.to - range.from);
  const from = Math.min(Math.max(0, around - share * span), Math.max(0, end - span));
  return { from, to: from + span };
}

export function panTime(range: TimeRange, by: Seconds, end: Seconds): TimeRange {
  const span = range.to - range.from;
  const from = Math.min(Math.max(0, range.from + by), Math.max(0, end - span));
  return { from, to: from + span };
}

/** Which zoom level of a time map has about one column a pixel. */
export function mapLevel(columnSeconds: Seconds, range: TimeRange, width: number, levels: number): number {
  const columns = (range.to - range.from) / columnSeconds;
  const level = Math.round(Math.log2(Math.max(1, columns / Math.max(1, width))));
  return Math.min(levels - 1, Math.max(0, level));
}

/** Value of a curve on a rising grid of frequencies, straight between points in log frequency. */
export function valueAt(grid: ArrayLike<number>, values: ArrayLike<number>, hz: Hz): number | null {
  const n = Math.min(grid.length, values.length);
  if (n === 0) return null;
  const first = grid[0] as number;
  const step = n > 1 ? Math.log2((grid[n - 1] as number) / first) / (n - 1) : 1;
  const x = Math.log2(hz / first) / step;
  const i = Math.min(n - 1, Math.max(0, Math.floor(x)));
  const a = values[i] as number;
  const b = values[Math.min(n - 1, i + 1)] as number;
  return a + (b - a) * Math.min(1, Math.max(0, x - i));
}
