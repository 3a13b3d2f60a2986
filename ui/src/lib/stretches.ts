/** Stretches of time in which a move acts. */

type Stretch = [number, number];

/** In order; those that touch or overlap as one. */
export function joined(stretches: readonly (readonly [number, number] | readonly number[])[]): Stretch[] {
  const out: Stretch[] = [];
  for (const [from = 0, to = 0] of [...stretches].sort((a, b) => (a[0] ?? 0) - (b[0] ?? 0))) {
    const last = out[out.length - 1];
    if (last && from <= last[1]) last[1] = Math.max(last[1], to);
    else out.push([from, to]);
  }
  return out;
}
