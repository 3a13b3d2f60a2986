/** Words for findings. What stands out and why is computed by the server. */

import type { Finding } from "../api/client";
import type { KeyName } from "./keymap";
import type { Move } from "./moves";
import { signed, writeHz } from "./notes";

export type Kind = Finding["document"]["kind"];
export type Way = "boosted" | "alone" | "without" | "removed";

/** The four ways to hear a finding, with their keys. */
export const WAYS: readonly { way: Way; key: KeyName; label: string }[] = [
  { way: "boosted", key: "finding.boosted", label: "Boosted" },
  { way: "alone", key: "finding.alone", label: "Band" },
  { way: "without", key: "finding.without", label: "Without" },
  { way: "removed", key: "finding.removed", label: "Removed" },
];

const percent = (share: number) => `${share < 0.01 ? (100 * share).toFixed(1) : Math.round(100 * share)} %`;

/** How far the look at a track is; "" when none is under way. */
export function lookState(task: { state: string; progress: number } | null): string {
  if (!task) return "";
  return task.state === "waiting" ? "waits for a look" : `looking ${percent(task.progress)}`;
}

export type Figure = "narrow" | "broad" | "moments" | "floor";

/** The filled shape that stands for a kind. */
export function figureOf(kind: Kind): Figure {
  if (kind === "ring" || kind === "hum" || kind === "own tone") return "narrow";
  if (kind === "sibilance" || kind === "plosive" || kind === "whistle") return "moments";
  return kind === "rumble" ? "floor" : "broad";
}

/** "412 Hz, G♯4 −14 ct" */
export function place(finding: Finding): string {
  const d = finding.document;
  return `${writeHz(d.frequency_hz)} Hz ${d.note} ${signed(d.cents, 0)} ct`;
}

/** "−6.2 dB", "to −6.0 dB while loud", "−12.0 dB at 5 moments" */
export function proposal(finding: Finding): string {
  const move = finding.document.move as Partial<Move>;
  if (move.shape === "low_cut") return `low cut ${writeHz(move.frequency_hz ?? 0)} Hz`;
  if (move.mode === "dynamic") return `to ${signed((move.gain_db ?? 0) + (move.range_db ?? 0), 1)} dB while loud`;
  const moments = move.stretches?.length ?? 0;
  return `${signed(move.gain_db ?? 0, 1)} dB${moments ? ` at ${moments} moment${moments > 1 ? "s" : ""}` : ""}`;
}

/** Why it is a finding, in short sentences. */
export function reasons(finding: Finding): string[] {
  const d = finding.document;
  const out: string[] = [];
  if (d.moments?.length === 1) out.push(`At one moment, ${percent(d.share_of_time)} of the time.`);
  else if (d.moments?.length) out.push(`At ${d.moments.length} ${(d.similar ?? 0) > 0.7 ? "like" : "differing"} moments, ${percent(d.share_of_time)} of the time.`);
  else if (d.kind !== "rumble" && d.kind !== "hum") out.push(`Stands out ${percent(d.share_of_time)} of the sounding time.`);
  if (d.kind === "ring" && !d.moments?.length) out.push(d.harmonic ? `It may be ${d.harmonic}.` : "It stays while the notes change.");
  else if (d.harmonic) out.push(`${d.harmonic}.`);
  if (d.ring_ms !== null) out.push(`Rings ${Math.round(d.ring_ms)} ms; a filter so narrow ${Math.round(d.own_ring_ms)} ms.`);
  if (d.slope_db_per_db > 0.15) out.push(`Grows by ${d.slope_db_per_db.toFixed(1)} dB for each dB of level.`);
  if (typeof d.after_db === "number") out.push(`After the cut: ${d.after_db.toFixed(1)} dB left.`);
  if (d.takes_db <= -0.05) out.push(`The cut takes ${Math.abs(d.takes_db).toFixed(1)} dB from the rest.`);
  if (d.says) out.push(d.says);
  if (d.threshold_db !== null) out.push(`It hurts above ${signed(d.threshold_db, 0)} dBFS in its band.`);
  return out;
}
