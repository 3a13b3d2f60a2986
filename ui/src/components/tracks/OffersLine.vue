<script setup lang="ts">
/** What can be done with files as they came in: two sides made one track, places by time reference or at zero. */
import { computed, ref } from "vue";
import { api, ask } from "../../api/client";
import { complain } from "../../lib/complain";
import { isPlaced, referencesDiffer } from "../../lib/placing";
import { useChanges } from "../../stores/changes";
import { useSong } from "../../stores/song";
import { useTasks } from "../../stores/tasks";

const song = useSong();
const changes = useChanges();
const tasks = useTasks();
const MOST = 3;
const pairs = computed(() => song.song?.pairs ?? []);
const differ = computed(() => referencesDiffer(song.tracks));
const placed = computed(() => isPlaced(song.tracks));
const joining = ref(new Set<number>());

async function join(pair: { left_id: number; right_id: number }): Promise<void> {
  joining.value.add(pair.left_id);
  try {
    await ask(api.POST("/api/songs/{song_id}/pairs", { params: { path: { song_id: song.id } }, body: { left_id: pair.left_id, right_id: pair.right_id } }));
    await tasks.refresh();
  } catch (problem) {
    complain(problem);
  }
  joining.value.delete(pair.left_id);
}
</script>

<template>
  <p v-if="pairs.length || differ" class="offers" data-test="offers">
    <template v-if="pairs.length">
      <span class="caption">Left and right</span>
      <span v-for="p in pairs.slice(0, MOST)" :key="p.left_id">
        {{ p.name }} <button type="button" class="plain small" :disabled="joining.has(p.left_id)" :aria-label="`Make ${p.name} one stereo track`" @click="join(p)">one stereo track</button>
      </span>
      <span v-if="pairs.length > MOST" class="soft">and {{ pairs.length - MOST }} more</span>
    </template>
    <template v-if="differ">
      <span class="caption">Beginnings</span>
      <span>{{ placed ? "as the files' time references say" : "the files' time references differ" }}</span>
      <button type="button" class="plain small" :aria-pressed="placed" @click="changes.place('reference')">by time reference</button>
      <button type="button" class="plain small" :aria-pressed="song.tracks.every((t) => !t.starts_at_s)" @click="changes.place('zero')">all at zero</button>
    </template>
  </p>
</template>

<style scoped>
.offers { display: flex; flex-wrap: wrap; gap: 4px 12px; align-items: baseline; margin: 0 0 7px; font-size: 12px; }
</style>
