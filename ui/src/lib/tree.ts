/** The strips of a song as rows: what runs into a group stands below it, the mix last. */

export interface Node {
  readonly id: number;
  readonly kind: "track" | "group" | "mix";
  readonly parent_id: number | null;
}

export interface Row<T extends Node> {
  readonly strip: T;
  readonly depth: number;
  /** Tracks that run into it, directly or not. */
  readonly holds: number;
  /** A group whose strips are not shown. */
  readonly folded: boolean;
}

/** Where a strip is put: into which group (null: the mix), in front of which strip (null: behind all). */
export interface Place {
  readonly parent: number | null;
  readonly before: number | null;
}

/** All rows in their order; strips in folded groups are left out. */
export function rowsOf<T extends Node>(strips: readonly T[], folded: ReadonlySet<number> = new Set()): Row<T>[] {
  const groups = new Set(strips.filter((s) => s.kind === "group").map((s) => s.id));
  const parentOf = (s: T) => (s.parent_id !== null && groups.has(s.parent_id) ? s.parent_id : null);
  const inside = (parent: number | null) => strips.filter((s) => s.kind !== "mix" && parentOf(s) === parent);
  const holds = (s: T): number => (s.kind === "track" ? 1 : inside(s.id).reduce((sum, child) => sum + holds(child), 0));
  const below = (parent: number | null, depth: number): Row<T>[] =>
    inside(parent).flatMap((strip) => {
      const closed = strip.kind === "group" && folded.has(strip.id);
      return [{ strip, depth, holds: holds(strip), folded: closed }, ...(strip.kind === "group" && !closed ? below(strip.id, depth + 1) : [])];
    });
  const mix = strips.filter((s) => s.kind === "mix");
  const tracks = strips.filter((s) => s.kind === "track").length;
  return [...below(null, 0), ...mix.map((strip) => ({ strip, depth: 0, holds: tracks, folded: false }))];
}

/** Whether a strip is a group or lies in it. */
export function isWithin(strips: readonly Node[], id: number, group: number): boolean {
  for (let at: number | null = id; at !== null; at = strips.find((s) => s.id === at)?.parent_id ?? null) if (at === group) return true;
  return false;
}

/** Where a strip goes that steps up (-1) or down (1) by one place, into open groups and out of them; null: nowhere. */
export function stepped<T extends Node>(rows: readonly Row<T>[], id: number, by: 1 | -1): Place | null {
  const shown = rows.filter((r) => r.strip.kind !== "mix");
  const i = shown.findIndex((r) => r.strip.id === id);
  const own = shown[i];
  if (!own) return null;
  const siblings = (parent: number | null) => shown.filter((r) => r.strip.parent_id === parent);
  const after = (strip: T): number | null => {
    const all = siblings(strip.parent_id);
    return all[all.findIndex((r) => r.strip.id === strip.id) + 1]?.strip.id ?? null;
  };
  const parent = shown.find((r) => r.strip.id === own.strip.parent_id)?.strip ?? null;
  const beside = siblings(own.strip.parent_id);
  const next = beside[beside.findIndex((r) => r.strip.id === id) + by];
  if (!next) {
    if (!parent) return null;
    return { parent: parent.parent_id, before: by < 0 ? parent.id : after(parent) };
  }
  if (next.strip.kind === "group" && !next.folded) {
    return { parent: next.strip.id, before: by < 0 ? null : (siblings(next.strip.id)[0]?.strip.id ?? null) };
  }
  return { parent: own.strip.parent_id, before: by < 0 ? next.strip.id : after(next.strip) };
}
