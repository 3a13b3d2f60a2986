/** How a finding is heard: boosted, alone, without it, or what its cut removes. */

import { defineStore } from "pinia";
import { ref } from "vue";
import type { Finding } from "../api/client";
import type { Way } from "../lib/findings";
import type { Move } from "../lib/moves";
import { type Signal, useLive } from "../live/session";
import { useBench } from "./bench";
import { useProbe } from "./probe";

/** Stands for the proposed move (the next numbers for more of them) while it is only heard; no saved move has such a number. */
export const PROPOSED = 4_000_000_000;

/** The move that a finding proposes. */
export const proposed = (finding: Finding): Move => moveOf(finding.document.move);

/** A move as it is proposed. What is null does not belong to the shape: there the server's defaults hold. */
export function moveOf(document: object): Move {
  const values = Object.fromEntries(Object.entries(document).filter(([, value]) => value !== null));
  return { mode: "static", ...values, enabled: true, id: PROPOSED, octaves: 0 } as Move;
}

export const useHearing = defineStore("hearing", () => {
  const live = useLive();
  const bench = useBench();
  const probe = useProbe();

  const way = ref<Way | null>(null);
  let before: Signal = "treated";
  /** The track whose moves the proposal is heard with; the bench may have gone on to another one meanwhile. */
  let heardOn: number | null = null;

  /** Hear the song as it is again. */
  function quiet(): void {
    if (way.value === null) return;
    if (way.value === "boosted" || way.value === "alone") live.setProbe(null);
    else if (heardOn !== null) {
      if (way.value === "removed") {
        live.hearOnly([]);
        live.setSignal(before);
      }
      live.previewMoves(heardOn, null);
      heardOn = null;
    }
    way.value = null;
  }

  function probed(finding: Finding, mode: "boost" | "alone"): void {
    const d = finding.document;
    if (live.state.signal === "removed") live.setSignal("treated");
    live.setProbe({
      frequency_hz: d.frequency_hz, octaves: Math.min(2, Math.max(0.05, d.bandwidth_oct)), gain_db: 12,
      margin_db: probe.values.margin_db, mode,
    });
  }

  function cut(move: Move, removed: boolean): void {
    if (!bench.track) return;
    before = live.state.signal;
    heardOn = bench.track.id;
    live.previewMoves(bench.track.id, [...bench.track.moves, move]);
    if (removed) {
      live.hearOnly([PROPOSED]);
      live.setSignal("removed");
    } else if (live.state.signal !== "treated") live.setSignal("treated");
  }

  /** Hear a finding in one of the four ways, with the move as it stands; the same way again: no more. */
  function hear(wanted: Way, finding: Finding | null, move: Move | null): void {
    const again = way.value === wanted;
    quiet();
    if (!finding || !bench.track || again) return;
    probe.end();
    if (wanted === "boosted" || wanted === "alone") probed(finding, wanted === "boosted" ? "boost" : "alone");
    else cut(move ?? proposed(finding), wanted === "removed");
    way.value = wanted;
    if (!live.state.playing) void live.togglePlay();
  }

  /** The proposed move has other values now. */
  function follow(move: Move): void {
    if (bench.track && (way.value === "without" || way.value === "removed")) live.previewMoves(bench.track.id, [...bench.track.moves, move]);
  }

  return { way, hear, quiet, follow };
});
