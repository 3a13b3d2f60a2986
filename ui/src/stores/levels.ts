/** What the chosen dynamic move reads over the passage: for the picture that its threshold is set by, and for the map. */

import { useQuery } from "@tanstack/vue-query";
import { defineStore } from "pinia";
import { computed } from "vue";
import { cache } from "../data/cache";
import { levelsQuery } from "../data/queries";
import { isDynamic } from "../lib/moves";
import { useBench } from "./bench";
import { useSong } from "./song";
import { useView } from "./view";

export const useLevels = defineStore("levels", () => {
  const song = useSong();
  const bench = useBench();
  const view = useView();

  /** The move whose levels are shown, as it is saved: what is only dragged changes no level but its own line. */
  const move = computed(() => (bench.chosenMove && isDynamic(bench.chosenMove) ? bench.chosenMove.id : null));
  const asked = useQuery(
    computed(() => levelsQuery(song.id, move.value, view.passage, song.song?.revision)),
    cache,
  );
  const levels = computed(() => (move.value === null ? null : (asked.data.value ?? null)));

  return { move, levels };
});
