<script setup lang="ts">
/** Handing over: treated stems as files, and the sheet of all moves. */
import { ElButton, ElCheckbox, ElOption, ElSelect } from "element-plus";
import { computed, ref, watch } from "vue";
import { type Strip, api, ask } from "../api/client";
import KeepPanel from "../components/handover/KeepPanel.vue";
import WatchPart from "../components/handover/WatchPart.vue";
import TaskList from "../components/TaskList.vue";
import { type Move, gainWords, hasOctaves, hasQ, hasSlope, nameOf, octavesOfQ, placeOf, qualityOf, shapeOf } from "../lib/moves";
import { writeHz, writeNote } from "../lib/notes";
import { complain } from "../lib/complain";
import { toggled } from "../lib/sets";
import { isWithin, rowsOf } from "../lib/tree";
import { useSong } from "../stores/song";
import { useTasks } from "../stores/tasks";

const song = useSong();
const tasks = useTasks();
const chosen = ref<Set<number>>(new Set());
const depth = ref<"16" | "24" | "32f">("24");
const container = ref<"wav" | "flac">("wav");
const original = ref(false);
const aftercare = ref(true);
const reverb = ref(false);
const movesOf = (strip: Strip) => strip.moves as Move[];
const strips = computed(() => rowsOf(song.strips));
const cared = computed(() => song.strips.some((t) => t.aftercare.compressors?.length || t.aftercare.clip || t.aftercare.warmth || t.aftercare.air || t.aftercare.reverb));
const exports = computed(() => tasks.all.filter((t) => t.kind === "export"));

watch(() => song.id, () => (chosen.value = new Set(song.tracks.map((t) => t.id))), { immediate: true });
const all = computed(() => song.tracks.every((t) => chosen.value.has(t.id)));
/** Moves of groups and the mix that chosen stems of what runs into them don't carry. */
const notCarried = computed(() => {
  const mine = [...chosen.value];
  return song.strips.filter((s) => s.kind !== "track" && s.moves.some((m) => m.enabled) && mine.some((id) => id !== s.id && (s.kind === "mix" || isWithin(song.strips, id, s.id))));
});

async function run(): Promise<void> {
  const track_ids = strips.value.map((r) => r.strip.id).filter((id) => chosen.value.has(id));
  const body = { track_ids, depth: depth.value, container: container.value, original_rate: original.value, aftercare: aftercare.value, reverb: reverb.value };
  try {
    await ask(api.POST("/api/songs/{song_id}/exports", { params: { path: { song_id: song.id } }, body }));
    await tasks.refresh();
  } catch (problem) {
    complain(problem);
  }
}

function moveCount(strip: Strip): string {
  const on = strip.moves.filter((m) => m.enabled).length;
  return on === 1 ? "1 move" : `${on} moves`;
}

const rateOf = (strip: Strip) => (song.trackOf(strip.id)?.source_rate ?? song.song?.sample_rate ?? 0) / 1000;

const sheet = (kind: string) => `/api/songs/${song.id}/sheet.${kind}`;
</script>

<template>
  <main class="handover">
    <section class="stems panel" aria-label="Stems">
      <h1>Stems</h1>
      <p class="soft">The same engine that you hear writes these files: same length and alignment as the source, moves applied, faders and pan not. A group and the mix are what runs into them, by its faders and pans, with their own moves.</p>
      <ElCheckbox :model-value="all" label="All tracks" @change="chosen = new Set($event ? song.tracks.map((t) => t.id) : [])" />
      <ul class="tracks">
        <li v-for="{ strip, depth } in strips" :key="strip.id" :style="{ paddingLeft: `${depth * 14}px` }">
          <ElCheckbox :model-value="chosen.has(strip.id)" :label="strip.kind === 'group' ? `${strip.name} (group)` : strip.name" @change="chosen = toggled(chosen, strip.id)" />
          <span class="soft figure">{{ moveCount(strip) }} · {{ rateOf(strip) }} kHz</span>
        </li>
      </ul>
      <p v-if="notCarried.length" class="notice" role="note">
        <template v-for="s in notCarried" :key="s.id">{{ s.name }} has {{ moveCount(s) }} that the stems of its tracks don't carry. </template>Choose {{ notCarried.length === 1 ? "it" : "them" }} as well where {{ notCarried.length === 1 ? "its" : "their" }} moves are wanted.
      </p>
      <div class="options">
        <label for="depth">Depth
          <ElSelect id="depth" v-model="depth" size="small" aria-label="Depth">
            <ElOption value="16" label="16 bit, with dither" />
            <ElOption value="24" label="24 bit" />
            <ElOption value="32f" label="32 bit float" :disabled="container === 'flac'" />
          </ElSelect>
        </label>
        <label for="container">File
          <ElSelect id="container" v-model="container" size="small" aria-label="File" @change="container === 'flac' && depth === '32f' && (depth = '24')">
            <ElOption value="wav" label="WAV" />
            <ElOption value="flac" label="FLAC" />
          </ElSelect>
        </label>
        <label for="rate">Rate
          <ElSelect id="rate" v-model="original" size="small" aria-label="Rate">
            <ElOption :value="false" :label="`the song's, ${(song.song?.sample_rate ?? 0) / 1000} kHz`" />
            <ElOption :value="true" label="each track's own" />
          </ElSelect>
        </label>
        <label v-if="cared" for="care">Behind the moves
          <ElSelect id="care" :model-value="reverb ? 'reverb' : aftercare ? 'care' : 'none'" size="small" aria-label="Behind the moves" @change="(v: string) => { aftercare = v !== 'none'; reverb = v === 'reverb'; }">
            <ElOption value="care" label="as heard, no reverb" />
            <ElOption value="reverb" label="with reverb" />
            <ElOption value="none" label="moves alone" />
          </ElSelect>
        </label>
        <ElButton type="primary" :disabled="!chosen.size" data-test="export" @click="run">Write {{ chosen.size }} {{ chosen.size === 1 ? "stem" : "stems" }}</ElButton>
      </div>
      <TaskList :tasks="exports" />
    </section>
    <section class="sheet panel" aria-label="Sheet">
      <div class="head">
        <h1>Sheet</h1>
        <span class="links">
          <a :href="sheet('json')" download="sheet.json">JSON</a><a :href="sheet('csv')" download="sheet.csv">CSV</a>
          <a :href="sheet('html')" target="_blank">Page for printing</a><a href="/api/sheet-schema.json" target="_blank">Schema</a>
        </span>
      </div>
      <p class="soft">Every move, to be entered in any equalizer.</p>
      <div class="scroll" tabindex="0" role="region" aria-label="All moves">
        <table>
          <thead><tr><th>Track</th><th>Shape</th><th>Hz</th><th>Note</th><th>dB</th><th>Q</th><th>oct</th><th>dB/oct</th></tr></thead>
          <tbody>
            <template v-for="{ strip: track } in strips" :key="track.id">
              <tr v-for="move in movesOf(track)" :key="move.id" :class="{ off: !move.enabled }">
                <td>{{ track.name }}</td><td>{{ nameOf(move) }}</td>
                <td class="figure">{{ writeHz(placeOf(move)) }}</td><td class="figure">{{ writeNote(placeOf(move)) }}</td>
                <td class="figure">{{ gainWords(move).replace(" dB", "") }}</td>
                <td class="figure">{{ hasQ(move) ? qualityOf(move).toFixed(2) : "" }}</td>
                <td class="figure">{{ hasQ(move) && hasOctaves(shapeOf(move)) ? octavesOfQ(qualityOf(move)).toFixed(2) : "" }}</td>
                <td class="figure">{{ hasSlope(shapeOf(move)) ? move.slope_db_per_octave : "" }}</td>
              </tr>
            </template>
          </tbody>
        </table>
        <p v-if="!song.strips.some((t) => t.moves.length)" class="soft">No moves yet. They are made on the bench.</p>
      </div>
    </section>
    <WatchPart />
    <KeepPanel />
  </main>
</template>

<style scoped>
.handover { display: grid; grid-template: minmax(0, 1fr) auto auto / 1fr 1fr; gap: 14px; padding: 14px 18px; height: 100%; min-height: 0; }
section { padding: 14px 18px; min-height: 0; overflow: auto; display: flex; flex-direction: column; }
h1 { font-size: 17px; }
p { margin: 4px 0 8px; }
.tracks { list-style: none; padding: 0; margin: 0 0 12px; overflow: auto; min-height: 120px; }
.tracks li { display: flex; justify-content: space-between; align-items: center; border-top: 1px solid var(--line); }
.stems { grid-row: span 3; }
.notice { color: var(--stand-out); font-size: 12px; }
.options { flex: none; display: flex; gap: 14px; align-items: end; margin-bottom: 12px; flex-wrap: wrap; }
.options label { display: flex; flex-direction: column; font-size: 12px; color: var(--soft); gap: 2px; }
.options .el-select { width: 170px; }
.head { display: flex; justify-content: space-between; align-items: baseline; }
.links { display: flex; gap: 14px; }
.scroll { overflow: auto; }
table { border-collapse: collapse; width: 100%; font-size: 12px; }
th { text-align: right; font-weight: 500; color: var(--soft); }
td { text-align: right; border-top: 1px solid var(--line); padding: 4px 0 4px 8px; white-space: nowrap; }
th:nth-child(-n + 2), td:nth-child(-n + 2) { text-align: left; padding-left: 0; }
.off td { color: var(--soft); text-decoration: line-through; }
</style>
