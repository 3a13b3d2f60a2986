<script setup lang="ts">
/** Snapshots, as a menu of the head: keep this state, go to another, switch between two, see two side by side. */
import { ElInput, ElPopover } from "element-plus";
import { computed, ref } from "vue";
import { useRoute } from "vue-router";
import { KEYMAP } from "../lib/keymap";
import { useBench } from "../stores/bench";
import { useSnapshots } from "../stores/snapshots";
import { useSong } from "../stores/song";
import SnapshotsCompared from "./SnapshotsCompared.vue";

const song = useSong();
const bench = useBench();
const snapshots = useSnapshots();
const route = useRoute();
const name = ref("");
const menu = ref<InstanceType<typeof ElPopover> | null>(null);
const here = computed(() => (route.name === "bench" ? bench.track : null));
/** Which one is seen beside another, or beside the state of now. */
const compared = ref<{ strip: number; first: number } | null>(null);
const shown = computed(() => here.value ?? song.tracks[0] ?? null);

function compare(id: number): void {
  const kept = snapshots.all.find((s) => s.id === id);
  const strip = kept?.strip_id ?? shown.value?.id;
  if (strip === undefined) return;
  compared.value = { strip, first: id };
  menu.value?.hide();
}
const of = (strip: number | null) => (strip === null ? "the song" : (song.stripOf(strip)?.name ?? "a deleted track"));

async function keep(strip: number | null): Promise<void> {
  await snapshots.keep(strip, name.value.trim() || snapshots.nextName);
  name.value = "";
}
</script>

<template>
  <ElPopover ref="menu" trigger="click" :width="300" placement="bottom-end">
    <template #reference><button type="button" class="plain small" :disabled="!song.song">Snapshots</button></template>
    <div class="snapshots" role="group" aria-label="Snapshots">
      <ElInput v-model="name" size="small" maxlength="120" :placeholder="snapshots.nextName" aria-label="Name of the snapshot" />
      <div class="row">
        <button v-if="here" type="button" class="plain small" @click="keep(here.id)">Keep {{ here.name }}</button>
        <button type="button" class="plain small" @click="keep(null)">Keep the song</button>
      </div>
      <p v-if="!snapshots.all.length" class="soft">A snapshot keeps moves, amounts, phase and what comes behind, to go back to and to compare.</p>
      <ul v-else>
        <li v-for="s in [...snapshots.all].reverse()" :key="s.id">
          <button type="button" class="go" :aria-pressed="s.id === snapshots.pair.at(-1)" @click="snapshots.go(s.id)"><span>{{ s.name }}</span><span class="soft">{{ of(s.strip_id) }}</span></button>
          <button type="button" class="plain small quiet" :aria-label="`Compare ${s.name}`" title="side by side with now" @click="compare(s.id)">compare</button>
          <button type="button" class="plain small quiet" :aria-label="`Forget ${s.name}`" @click="snapshots.forget(s.id)">×</button>
        </li>
      </ul>
      <p v-if="snapshots.pair.length === 2" class="soft">S: {{ KEYMAP["compare.switch"].says }} ({{ snapshots.pair.map(snapshots.nameOf).join(", ") }})</p>
    </div>
  </ElPopover>
  <SnapshotsCompared v-if="compared" :strip-id="compared.strip" :first="compared.first" @end="compared = null" />
</template>

<style scoped>
.snapshots { display: flex; flex-direction: column; gap: 6px; font-size: 12px; }
.row { display: flex; gap: 5px; flex-wrap: wrap; }
ul { list-style: none; margin: 0; padding: 0; max-height: 300px; overflow: auto; }
li { display: flex; align-items: center; border-bottom: 1px solid var(--line); }
.go { flex: 1; display: flex; justify-content: space-between; gap: 8px; border: 0; background: none; font: inherit; color: inherit; text-align: left; padding: 4px 2px; cursor: pointer; }
.go:hover { background: var(--treat-soft); }
.go[aria-pressed="true"] { font-weight: 600; }
p { margin: 0; }
</style>
