/** The scale of faders and their meters: the last 20 dB below zero take half of the way, as they need the most care. */

import { scaleLinear } from "d3-scale";

export const LOWEST_FADER = -100;
export const HIGHEST_FADER = 12;
/** Levels that are marked. */
export const FADER_MARKS = [-60, -40, -20, -10, 0, 10] as const;

const scale = scaleLinear([-70, -60, -40, -20, 0, HIGHEST_FADER], [0, 0.04, 0.18, 0.42, 0.82, 1]).clamp(true);

/** Where a level stands: 0 (left end, silent) to 1. */
export const faderShare = (db: number): number => scale(db);

/** The level at a place; the very left end is silence. */
export const faderAt = (share: number): number => (share <= 0 ? LOWEST_FADER : scale.invert(share));
