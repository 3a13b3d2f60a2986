/** Sets: of items, and of harmonics. */

const HIGHEST_HZ = 23_000;

/** A frequency and its octaves or multiples, as many as can be heard. */
export const membersOf = (hz: number, count: number, spacing: "octaves" | "multiples"): number[] =>
  Array.from({ length: Math.round(count) }, (_, n) => hz * (spacing === "octaves" ? 2 ** n : n + 1)).filter((member, n) => n === 0 || member < HIGHEST_HZ);

/** The set without the item, or with it where it is not in it: a new one, so that what is drawn of it follows. */
export function toggled<T>(set: ReadonlySet<T>, item: T): Set<T> {
  const next = new Set(set);
  if (!next.delete(item)) next.add(item);
  return next;
}
