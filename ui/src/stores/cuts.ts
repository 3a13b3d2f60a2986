/** What the chosen adaptive move takes away over the passage: a curve for the treatment, a picture for the map. */

import { useQuery } from "@tanstack/vue-query";
import { defineStore } from "pinia";
import { computed } from "vue";
import type { Cuts } from "../api/client";
import { cache } from "../data/cache";
import { cutsQuery } from "../data/queries";
import { isAdaptive } from "../lib/moves";
import { useBench } from "./bench";
import { useSong } from "./song";
import { useView } from "./view";

export interface CutPicture extends Omit<Cuts, "cuts"> {
  /** Cut in dB (0 or above) of a column and a row. */
  readonly at: (column: number, row: number) => number;
}

export const useCuts = defineStore("cuts", () => {
  const song = useSong();
  const bench = useBench();
  const view = useView();

  const move = computed(() => (bench.chosenMove?.enabled && isAdaptive(bench.chosenMove) ? bench.chosenMove.id : null));
  const asked = useQuery(
    computed(() => cutsQuery(song.id, move.value, view.passage, song.song?.revision)),
    cache,
  );
  const picture = computed<CutPicture | null>(() => {
    const told = asked.data.value;
    if (move.value === null || !told) return null;
    const bytes = Uint8Array.from(atob(told.cuts), (c) => c.charCodeAt(0));
    return { ...told, at: (column, row) => (bytes[column * told.hz.length + row] ?? 0) * told.step_db };
  });

  return { move, picture };
});
