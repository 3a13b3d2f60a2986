<script setup lang="ts">
/** Watched folders: stems that appear or change in one are taken in, treated ones are kept up to date in another. */
import { useQuery } from "@tanstack/vue-query";
import { ElInput } from "element-plus";
import { computed, ref, watch } from "vue";
import { api, ask } from "../../api/client";
import { cache } from "../../data/cache";
import { names, watchQuery } from "../../data/queries";
import { complain } from "../../lib/complain";
import { useSong } from "../../stores/song";

const song = useSong();
const { data: found } = useQuery(computed(() => watchQuery(song.id)), cache);
const source = ref("");
const out = ref("");
const busy = ref(false);
const on = computed(() => !!found.value?.source);
watch(() => [song.id, found.value?.source, found.value?.out], () => {
  source.value = found.value?.source ?? "";
  out.value = found.value?.out ?? "";
}, { immediate: true });

async function change(begin: boolean): Promise<void> {
  busy.value = true;
  const params = { path: { song_id: song.id } };
  try {
    const told = await ask(
      begin ? api.PUT("/api/songs/{song_id}/watch", { params, body: { source: source.value.trim(), out: out.value.trim() } }) : api.DELETE("/api/songs/{song_id}/watch", { params }),
    );
    cache.setQueryData(names.watch(song.id), told);
  } catch (problem) {
    complain(problem);
  }
  busy.value = false;
}
</script>

<template>
  <section v-if="found" class="panel watched" aria-label="Watched folder">
    <h1>Watched folder</h1>
    <p v-if="!found.roots.length" class="soft">
      Start with <code>MIVLO_WATCH_DIRS=/path/to/sessions make start</code> and stems that appear or change in a folder there are taken in by themselves, treated ones kept up to date in another: whatever program you mix in plays them.
    </p>
    <template v-else>
      <p class="soft">Stems that appear or change in the first folder are taken in, their moves kept; treated ones are written into the second whenever moves or stems rest for a second. Both below {{ found.roots.join(" or ") }}.</p>
      <form class="row" @submit.prevent="change(true)">
        <label>stems from <ElInput v-model="source" size="small" :disabled="on" placeholder="Tide Clock/stems" aria-label="Folder of the stems" /></label>
        <label>treated into <ElInput v-model="out" size="small" :disabled="on" placeholder="Tide Clock/treated" aria-label="Folder of the treated stems" /></label>
        <button v-if="on" type="button" class="plain" :disabled="busy" @click="change(false)">Stop watching</button>
        <button v-else type="submit" class="plain" :disabled="busy || !source.trim() || !out.trim()">Watch</button>
      </form>
      <ul v-if="on" role="log" aria-label="What was done">
        <li v-for="(line, i) in [...found.says].reverse().slice(0, 4)" :key="i" :class="{ soft: i > 0 }">{{ line }}</li>
        <li v-if="!found.says.length" class="soft">Waiting for stems.</li>
      </ul>
    </template>
  </section>
</template>

<style scoped>
.watched { padding: 10px 14px; font-size: 12px; }
h1 { font-size: 15px; }
p { margin: 2px 0 6px; }
.row { display: flex; gap: 10px; align-items: end; }
.row label { flex: 1; display: flex; flex-direction: column; gap: 2px; }
ul { list-style: none; margin: 6px 0 0; padding: 0; }
</style>
