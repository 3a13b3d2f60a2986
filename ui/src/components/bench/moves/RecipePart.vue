<script setup lang="ts">
/** Recipes: treatments kept for later. Those for the track's role come first; a sheet can be brought in here, too. */
import { useQuery } from "@tanstack/vue-query";
import { ElCheckbox, ElInput } from "element-plus";
import { computed, ref } from "vue";
import { api, ask } from "../../../api/client";
import { cache } from "../../../data/cache";
import { recipesQuery } from "../../../data/queries";
import { complain, tell } from "../../../lib/complain";
import { useBench } from "../../../stores/bench";
import { useChanges } from "../../../stores/changes";
import { useSheets } from "../../../stores/sheets";
import { useSong } from "../../../stores/song";

const emit = defineEmits<{ end: [] }>();
const bench = useBench();
const song = useSong();
const changes = useChanges();
const { putSheets } = useSheets();
const refit = ref(true);
const name = ref("");
const says = ref("");
const keeping = ref(false);
const { data: found } = useQuery(recipesQuery(), cache);
const role = computed(() => bench.track?.role);
const ordered = computed(() => [...(found.value ?? [])].sort((a, b) => Number(b.role === role.value) - Number(a.role === role.value)));

const leftOut = (left: readonly string[] | null) => left?.length && tell(`Left out: ${left.join("; ")}.`);

async function use(id: string): Promise<void> {
  if (bench.track) leftOut(await changes.useRecipe(bench.track.id, id, refit.value));
  emit("end");
}

async function bring(event: Event): Promise<void> {
  const file = (event.target as HTMLInputElement).files?.[0];
  if (!file || !bench.track) return;
  await putSheets(bench.track, [file]);
  emit("end");
}

async function keep(): Promise<void> {
  if (!bench.track) return;
  try {
    const path = { song_id: song.id, track_id: bench.track.id };
    await ask(api.POST("/api/songs/{song_id}/tracks/{track_id}/recipes", { params: { path }, body: { name: name.value, says: says.value } }));
    await cache.invalidateQueries({ queryKey: recipesQuery().queryKey });
    keeping.value = false;
  } catch (problem) {
    complain(problem);
  }
}

async function forget(id: string): Promise<void> {
  await ask(api.DELETE("/api/recipes", { params: { query: { recipe: id } } })).catch(complain);
  await cache.invalidateQueries({ queryKey: recipesQuery().queryKey });
}
</script>

<template>
  <div class="part" role="group" aria-label="Recipes">
    <ul>
      <li v-for="r in ordered" :key="r.id" :class="{ fits: r.role === role }">
        <button type="button" class="row" :title="r.says" @click="use(r.id)"><span>{{ r.name }}</span><span class="soft">{{ r.role }} · {{ r.moves }}</span></button>
        <button v-if="r.own" type="button" class="plain small quiet" :aria-label="`Forget ${r.name}`" @click="forget(r.id)">×</button>
        <small v-if="r.role === role" class="soft">{{ r.says }}</small>
      </li>
    </ul>
    <ElCheckbox v-model="refit" size="small" label="narrow cuts to where they ring here" />
    <form v-if="keeping" class="keep" @submit.prevent="keep()">
      <ElInput v-model="name" size="small" maxlength="80" placeholder="name" aria-label="Name of the recipe" />
      <ElInput v-model="says" size="small" maxlength="300" placeholder="when to use it" aria-label="When to use it" />
      <button class="plain small">Keep</button>
    </form>
    <div class="buttons">
      <label class="plain small file">Bring in a sheet …<input type="file" accept=".json" aria-label="Sheet file" @change="bring" /></label>
      <button v-if="!keeping && bench.moves.length" type="button" class="plain small" @click="keeping = true">Keep this treatment …</button>
      <button type="button" class="plain small quiet" @click="emit('end')">Leave</button>
    </div>
  </div>
</template>

<style scoped>
.part { display: flex; flex-direction: column; gap: 4px; border: 1px solid var(--treat); padding: 6px 8px; font-size: 12px; }
ul { list-style: none; margin: 0; padding: 0; max-height: 190px; overflow: auto; }
li { display: flex; flex-wrap: wrap; align-items: center; border-bottom: 1px solid var(--line); }
li.fits .row span:first-child { font-weight: 600; }
.row { flex: 1; display: flex; justify-content: space-between; gap: 6px; border: 0; background: none; font: inherit; color: inherit; text-align: left; padding: 2px 0; cursor: pointer; }
.row:hover { background: var(--treat-soft); }
small { flex-basis: 100%; font-size: 11px; line-height: 1.2; padding-bottom: 3px; }
.keep, .buttons { display: flex; gap: 5px; flex-wrap: wrap; }
.file input { position: absolute; opacity: 0; width: 0; }
.file:focus-within { outline: 2px solid var(--treat); }
</style>
