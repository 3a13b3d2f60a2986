/** The set without the item, or with it where it is not in it: a new one, so that what is drawn of it follows. */
export function toggled<T>(set: ReadonlySet<T>, item: T): Set<T> {
  const next = new Set(set);
  if (!next.delete(item)) next.add(item);
  return next;
}
