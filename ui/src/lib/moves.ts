/** Words and geometry of moves. What a move does to the sound is computed by the server. */

import type { components } from "../api/schema";

/** A move as the server tells it. Its fields are listed there alone. */
export type Move = components["schemas"]["TrackOut"]["moves"][number];
/** Values for a new move; what is left out is as the server has it by default. */
export type NewMove = Partial<Omit<Move, "id" | "octaves">> & Pick<Move, "shape" | "frequency_hz">;
export type Shape = Move["shape"];

/** What a move is made of, to make another one like it. */
export function valuesOf(move: Move): NewMove {
  const { id, octaves, ...values } = move;
  void [id, octaves];
  return values;
}

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

export const shapeLabel = (shape: Shape) => SHAPES.find((s) => s.value === shape)?.label ?? shape;
export const hasGain = (shape: Shape) => shape === "bell" || shape === "low_shelf" || shape === "high_shelf";
export const hasSlope = (shape: Shape) => shape === "low_cut" || shape === "high_cut";
export const hasQ = (move: Move) => !(hasSlope(move.shape) && move.slope_db_per_octave === 6);
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
