/** Words and geometry of moves. What a move does to the sound is computed by the server. */

import type { components } from "../api/schema";
import { signed } from "./notes";

type Told = components["schemas"]["TrackOut"]["moves"][number];
type Keys<T> = T extends unknown ? keyof T : never;
type Value<T, K extends PropertyKey> = T extends unknown ? (K extends keyof T ? T[K] : never) : never;
/** What every kind of move has. */
type Common = { [K in keyof Told]: Told[K] };
/** A move of any kind as the server tells it: what only some kinds have may be missing. Its fields are listed there alone. */
export type Move = Common & { [K in Exclude<Keys<Told>, keyof Common>]?: Value<Told, K> };
/** Values for a new move; what is left out is as the server has it by default. */
export type NewMove = Partial<Omit<Move, "id" | "octaves">>;
export type Shape = NonNullable<Move["shape"]>;
export type Key = NonNullable<Move["key"]>;

/** What a move is made of, to make another one like it. */
export function valuesOf(move: Move): NewMove {
  const { id, octaves, ...values } = move;
  void [id, octaves];
  return values;
}

export const isDynamic = (move: Move) => move.mode === "dynamic";
export const isAdaptive = (move: Move) => move.mode === "adaptive";
export const isRungs = (move: Move) => move.mode === "rungs";
/** Where it stands on the axis: its centre, or the middle of its range. */
export const placeOf = (move: Move) => isRungs(move) ? Math.sqrt(20 * 20_000) : move.frequency_hz ?? Math.sqrt((move.from_hz ?? 20) * (move.to_hz ?? 20_000));
export const shapeOf = (move: Move): Shape => move.shape ?? "bell";
export const qualityOf = (move: Move) => move.q ?? Math.SQRT1_2;
/** How far from zero it goes at the most: its static part and its range, or the depth of an adaptive one. */
export const furthestOf = (move: Move) => (isAdaptive(move) ? (move.most_db ?? 0) : isRungs(move) ? deepest(move) : (move.gain_db ?? 0) + (move.range_db ?? 0));
/** Of rungs the gain that is farthest from zero. */
const deepest = (move: Move) => (move.gains_db ?? []).reduce((far, gain) => (Math.abs(gain) > Math.abs(far) ? gain : far), 0);

export const SHAPES: readonly { value: Shape; label: string }[] = [
  { value: "bell", label: "Bell" },
  { value: "notch", label: "Notch" },
  { value: "low_shelf", label: "Low shelf" },
  { value: "high_shelf", label: "High shelf" },
  { value: "low_cut", label: "Low cut" },
  { value: "high_cut", label: "High cut" },
  { value: "band_pass", label: "Band pass" },
];

export const SLOPES = [6, 12, 18, 24, 36, 48] as const;

/** What it is called in a list. */
export function nameOf(move: Move): string {
  if (isAdaptive(move)) return "Adaptive";
  if (isRungs(move)) return "Rungs";
  return isDynamic(move) ? `${shapeLabel(shapeOf(move))} ∿` : shapeLabel(shapeOf(move));
}

/** A figure for what it does: its gain, or how far it moves. */
export function gainWords(move: Move): string {
  if (isAdaptive(move)) return `${signed(move.most_db ?? 0, 1)} dB`;
  if (isDynamic(move) || isRungs(move)) return `${signed(furthestOf(move), 1)} dB`;
  return hasGain(shapeOf(move)) ? `${signed(move.gain_db ?? 0, 1)} dB` : "";
}

export const shapeLabel = (shape: Shape) => SHAPES.find((s) => s.value === shape)?.label ?? shape;
export const hasGain = (shape: Shape) => shape === "bell" || shape === "low_shelf" || shape === "high_shelf";
export const hasSlope = (shape: Shape) => shape === "low_cut" || shape === "high_cut";
export const hasQ = (move: Move) => !isAdaptive(move) && !isRungs(move) && !(hasSlope(shapeOf(move)) && move.slope_db_per_octave === 6);
export const hasOctaves = (shape: Shape) => shape === "bell" || shape === "notch" || shape === "band_pass";

/** Bandwidth in octaves and Q of the same bell (Audio EQ Cookbook, analogue relation). */
export const octavesOfQ = (q: number) => (2 / Math.LN2) * Math.asinh(1 / (2 * q));
export const qOfOctaves = (octaves: number) => Math.sqrt(2 ** octaves) / (2 ** octaves - 1);

export type Axis = "frequency" | "gain" | "both" | null;

/** Which value a drag changes: the one it set out along, so that the other holds still. */
export function dragAxis(dx: number, dy: number, free: boolean, before: Axis): Axis {
  if (free) return "both";
  if (before === "frequency" || before === "gain") return before;
  if (Math.hypot(dx, dy) < 4) return null;
  return Math.abs(dx) > Math.abs(dy) ? "gain" : "frequency";
}

/**
 * Time in ms in which the probe itself rings down by 60 dB: 2.2 Q / f, as `Probe.ring_s` of the core.
 * A boost by A² has poles of quality A · Q, a cut of Q / A.
 */
export function probeRingMs(hz: number, probe: { octaves: number; gain_db: number; mode: string }): number {
  const a = 10 ** (probe.gain_db / 40);
  const q = qOfOctaves(probe.octaves) * (probe.mode === "boost" ? a : probe.mode === "cut" ? 1 / a : 1);
  return Math.round(((Math.log(1000) / Math.PI) * q * 1000) / hz);
}

/** How the names of links begin whose moves move together; the rule is the server's. */
const TOGETHER = ["set: ", "twins: "];
export const togetherBy = (move: Move) => move.links?.find((name) => TOGETHER.some((start) => name.startsWith(start))) ?? null;

/** While one is dragged: the others of its set go with it, by the same ratio or the same difference. */
export function followed(moves: readonly Move[], before: Move, values: Partial<Move>): Move[] {
  const link = togetherBy(before);
  return moves.map((m) => {
    if (m.id === before.id) return { ...m, ...values };
    if (!link || togetherBy(m) !== link || m.mode !== before.mode) return m;
    const out: Move = { ...m };
    if (values.frequency_hz && before.frequency_hz && m.frequency_hz) out.frequency_hz = Math.min(24_000, Math.max(10, (m.frequency_hz * values.frequency_hz) / before.frequency_hz));
    for (const key of ["gain_db", "range_db"] as const) {
      const [to, from, own] = [values[key], before[key], m[key]];
      if (to != null && from != null && own != null) out[key] = Math.min(30, Math.max(-30, own + to - from));
    }
    if (values.q) out.q = values.q;
    if (values.enabled !== undefined) out.enabled = values.enabled;
    return out;
  });
}

/** The band that a move treats; null for what treats no single one. */
export const bandOf = (move: Move): { hz: number; octaves: number } | null =>
  ["bell", "notch", "band_pass"].includes(shapeOf(move)) && !isAdaptive(move) && !isRungs(move) ? { hz: placeOf(move), octaves: octavesOfQ(qualityOf(move)) } : null;
