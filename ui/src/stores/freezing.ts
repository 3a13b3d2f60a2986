/** An adaptive move that is being put into ordinary ones: long work of the server, then one step of the song. */

import { defineStore } from "pinia";
import { computed, ref, watch } from "vue";
import { api, ask } from "../api/client";
import { complain, tell } from "../lib/complain";
import { useSong } from "./song";
import { useTasks } from "./tasks";

export const useFreezing = defineStore("freezing", () => {
  const song = useSong();
  const tasks = useTasks();
  /** The task that freezes, and the move that it freezes. */
  const mine = ref<{ task: number; move: number } | null>(null);
  const task = computed(() => tasks.all.find((t) => t.id === mine.value?.task) ?? null);
  const isFreezing = (move: number) => mine.value?.move === move;

  async function freeze(move: number): Promise<void> {
    try {
      const begun = await ask(api.POST("/api/songs/{song_id}/moves/{move_id}/freeze", { params: { path: { song_id: song.id, move_id: move } } }));
      mine.value = { task: begun.id, move };
      await tasks.refresh();
    } catch (problem) {
      complain(problem);
    }
  }

  const cancel = () => mine.value && void tasks.cancel(mine.value.task);

  watch(() => task.value?.state, (state) => {
    if (!task.value || state === "waiting" || state === "running") return;
    const { message } = task.value;
    mine.value = null;
    if (state === "failed") complain(message);
    else if (state === "done") tell(`${message} Undo brings it back.`);
  });

  return { task, isFreezing, freeze, cancel };
});
