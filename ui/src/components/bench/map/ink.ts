/** From levels to ink: how dark the map is, by what of it is in sight. */

/** Levels above the paper, in dB. */
export const SHOWN_DB = 60;
/** The ramp ends here: so large a share of what is in sight is full ink. */
const FULL_SHARE = 0.002;
/** The ramp's end moves in steps, so that the map does not flicker while it is moved. */
const STEP_DB = 3;

/** How often each level occurs in the columns `from` to `to` and rows `low` to `high` of a tile, added to `counts`. */
export function countLevels(
  data: Uint8Array, rows: number, columns: readonly [number, number], band: readonly [number, number], counts: Uint32Array,
): void {
  const [from, to] = [Math.max(0, columns[0]), Math.min(data.length / rows, columns[1])];
  const [low, high] = [Math.max(0, band[0]), Math.min(rows, band[1])];
  for (let c = from; c < to; c++) {
    for (let r = low; r < high; r++) {
      const level = data[c * rows + r] as number;
      counts[level] = (counts[level] as number) + 1;
    }
  }
}

/** The level at which the ink is full, in the tile's units of `step` dB; null where nothing was counted. */
export function fullInk(counts: Uint32Array, step: number): number | null {
  const total = counts.reduce((a, b) => a + b, 0);
  if (!total) return null;
  let above = 0;
  let level = counts.length - 1;
  while (level > 0 && (above += counts[level] as number) <= total * FULL_SHARE) level--;
  const units = STEP_DB / step;
  return Math.ceil(level / units) * units;
}

type Colour = readonly [number, number, number];

/** The colour of each level, as the bytes of an image. */
export function inkRamp(full: number, step: number, paper: Colour, ink: Colour): Uint32Array {
  const bytes = new Uint8ClampedArray(256 * 4);
  for (let v = 0; v < 256; v++) {
    const dark = Math.min(1, Math.max(0, 1 - ((full - v) * step) / SHOWN_DB)) ** 1.25;
    paper.forEach((p, i) => (bytes[4 * v + i] = p + ((ink[i] as number) - p) * dark));
    bytes[4 * v + 3] = 255;
  }
  return new Uint32Array(bytes.buffer);
}
