/** When recordings begin, and the markers in them. */

interface Placed {
  readonly starts_at_s: number;
  readonly reference_s: number | null;
}

interface Marker {
  readonly at_s: number;
  readonly label: string;
}

/** References are whole samples; as seconds they differ in their last digits. */
const SAME_S = 1e-6;

/** Whether files say that they began at different times. */
export function referencesDiffer(tracks: readonly Placed[]): boolean {
  const known = tracks.flatMap((t) => (t.reference_s === null ? [] : [t.reference_s]));
  return known.length > 1 && Math.max(...known) - Math.min(...known) > SAME_S;
}

/** Whether they lie in the song as they say. */
export function isPlaced(tracks: readonly Placed[]): boolean {
  const origins = tracks.flatMap((t) => (t.reference_s === null ? [] : [t.reference_s - t.starts_at_s]));
  return origins.length > 0 && Math.max(...origins) - Math.min(...origins) <= SAME_S;
}

/** From a marker to the next one behind it, or to the end. */
export function markedFrom(markers: readonly Marker[], index: number, end: number): { from: number; to: number } {
  const from = markers[index]?.at_s ?? 0;
  const next = markers.slice(index + 1).find((m) => m.at_s > from + 0.1);
  return { from, to: Math.max(from, next?.at_s ?? end) };
}
