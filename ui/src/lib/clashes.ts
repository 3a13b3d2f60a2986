/** Words and geometry of clashes. Who covers whom is computed by the server. */

import type { Clash, Decision, Proposal, Song, Way } from "../api/client";
import { furthestOf, octavesOfQ, type Move } from "./moves";
import { signed, writeHz } from "./notes";

/** Clashes that lose less are folded away. */
export const FOLDED_BELOW = 0.05;
/** More columns than this can't be read side by side. */
export const MOST_COLUMNS = 8;
/** More numbered spans than this make a picture of spans. */
export const MOST_SPANS = 6;

/** A clash keeps its name while values change: who, whom and about where. */
export const idOf = (c: Clash) => `${c.covered} ${c.by} ${Math.round(4 * Math.log2(c.from_hz * c.to_hz))}`;

export const isFolded = (c: Clash) => c.lost < FOLDED_BELOW;

/** Which tracks get a column, in the song's order: those that clash with the chosen one, else those that clash most. */
export function columnsOf(tracks: readonly number[], clashes: readonly Clash[], chosen: number | null): number[] {
  if (tracks.length <= MOST_COLUMNS) return [...tracks];
  const wanted = chosen === null ? [] : [chosen];
  for (const c of clashes) {
    if (chosen !== null && c.covered !== chosen && c.by !== chosen) continue;
    for (const id of [c.covered, c.by]) if (!wanted.includes(id) && wanted.length < MOST_COLUMNS) wanted.push(id);
  }
  for (const id of tracks) if (!wanted.includes(id) && wanted.length < MOST_COLUMNS) wanted.push(id);
  return tracks.filter((id) => wanted.includes(id));
}

/** All that a survey of a song may depend on, as a text. */
export const soundOf = (song: Song | null) =>
  song ? `${song.outline} ${song.playback_db_spl} ${JSON.stringify(song.orders)} ${song.strips.map((s) => `${s.id}.${s.revision}`).join(" ")}` : "";

/** Ranges of two clashes that overlap by such a share, in octaves, are one place; as the server has it. */
const SAME_PLACE = 0.3;

function overlap(a: { from_hz: number; to_hz: number }, b: { from_hz: number; to_hz: number }): number {
  const both = Math.log2(Math.min(a.to_hz, b.to_hz) / Math.max(a.from_hz, b.from_hz));
  return Math.max(0, both) / Math.log2(Math.max(a.to_hz, b.to_hz) / Math.min(a.from_hz, b.from_hz));
}

/** Who keeps the place of a clash: as it was decided, or else as it is proposed. */
export function wayOf(c: Clash, decisions: readonly Decision[]): { way: Way; decided: boolean } {
  const d = decisions.find((x) => [x.covered, x.by].sort().join() === [c.covered, c.by].sort().join() && overlap(x, c) >= SAME_PLACE);
  if (!d) return { way: c.proposed === c.by ? "by" : "covered", decided: false };
  if (d.way === "share") return { way: "share", decided: true };
  const keeps = d.way === "by" ? d.by : d.covered;
  return { way: keeps === c.by ? "by" : "covered", decided: true };
}

export const percent = (share: number) => `${(100 * share).toFixed(share < 0.0995 ? 1 : 0)} %`;

/** "1.9–3.5 kHz", "79–120 Hz" */
export function rangeWords(from: number, to: number): string {
  const whole = (hz: number) => (hz < 100 ? `${Math.round(hz)}` : writeHz(hz));
  const k = (hz: number) => (hz / 1000).toFixed(hz < 9950 ? 1 : 0);
  return to >= 1000 && from >= 400 ? `${k(from)}–${k(to)} kHz` : `${whole(from)}–${whole(to)} Hz`;
}

/** "bell 2 550 Hz, 0.9 oct, −4.0 dB while Narrator sounds" */
export function moveWords(move: Move, nameOf: (id: number) => string): string {
  const width = move.q ? `, ${octavesOfQ(move.q).toFixed(1)} oct` : "";
  const source = move.key?.source;
  const when = typeof source === "number" ? ` while ${nameOf(source)} sounds` : "";
  return `${(move.shape ?? "bell").replace("_", " ")} ${writeHz(move.frequency_hz ?? 0)} Hz${width}, ${signed(furthestOf(move), 1)} dB${when}`;
}

/** The moves of a proposal by the track that they are for. */
export function byTrack(proposal: Proposal): Map<number, Move[]> {
  const out = new Map<number, Move[]>();
  for (const { track_id, move } of proposal.moves) out.set(track_id, [...(out.get(track_id) ?? []), move as Move]);
  return out;
}
