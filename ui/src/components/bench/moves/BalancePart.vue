<script setup lang="ts">
/** Towards the balance of another track, a file, or the track's own at other times: how far both differ in each rung, before and after, and the moves that would do it. */
import { keepPreviousData, useQuery } from "@tanstack/vue-query";
import { ElCheckbox, ElOption, ElSelect } from "element-plus";
import { computed, onBeforeUnmount, ref, watch } from "vue";
import { bringReference } from "../../../api/client";
import { cache } from "../../../data/cache";
import { balanceQuery } from "../../../data/queries";
import { soundOf } from "../../../lib/clashes";
import { colour, usePicture } from "../../../lib/canvas";
import { complain } from "../../../lib/complain";
import { type Move, gainWords, nameOf, placeOf } from "../../../lib/moves";
import { writeHz, writeTime } from "../../../lib/notes";
import { useLive } from "../../../live/session";
import { useBench } from "../../../stores/bench";
import { useChanges } from "../../../stores/changes";
import { PROPOSED } from "../../../stores/hearing";
import { useSong } from "../../../stores/song";
import { useView } from "../../../stores/view";
import NumberField from "../../NumberField.vue";

const emit = defineEmits<{ end: [] }>();
const bench = useBench();
const song = useSong();
const changes = useChanges();
const live = useLive();
const view = useView();
const canvas = ref<HTMLCanvasElement | null>(null);
/** A strip by its number, a reference file by its id, or the track itself elsewhere. */
const towards = ref<number | string | null>(null);
const OWN = "own", FILE = "file";
/** Reference files that were brought in since the page was opened. */
const files = ref<{ id: string; name: string }[]>([]);
const sending = ref<number | null>(null);
const picker = ref<HTMLInputElement | null>(null);
/** The other stretch of the same track: behind the passage, or before it. */
const elsewhere = ref({ from: 0, to: 0 });
const strength = ref(50);
const onlyCuts = ref(true);
const limit = ref(6);
const smooth = ref(0.5);
const heard = ref(false);
const others = computed(() => (song.song?.strips ?? []).filter((s) => s.id !== bench.trackId));
const aim = computed(() => {
  if (towards.value === OWN) return { towards: bench.trackId ?? 0, from_s: elsewhere.value.from, to_s: elsewhere.value.to };
  return typeof towards.value === "number" ? { towards: towards.value } : { reference: towards.value && towards.value !== FILE ? towards.value : null };
});
const named = computed(() => {
  if (towards.value === OWN) return `its own from ${writeTime(elsewhere.value.from)} to ${writeTime(elsewhere.value.to)}`;
  return typeof towards.value === "number" ? song.stripOf(towards.value)?.name : files.value.find((f) => f.id === towards.value)?.name;
});
const asked = computed(() => ({ ...aim.value, strength: strength.value / 100, only_cuts: onlyCuts.value, limit_db: limit.value, smooth_oct: smooth.value, most: 6 }));
const { data: found, error } = useQuery(
  computed(() => ({ ...balanceQuery(song.id, bench.trackId ?? 0, asked.value, [view.passage, soundOf(song.song)]), placeholderData: keepPreviousData })),
  cache,
);
function choose(value: number | string): void {
  if (value === FILE) {
    picker.value?.click();
    return;
  }
  if (value === OWN) {
    const passage = view.passage ?? { from: 0, to: song.duration / 2 };
    elsewhere.value = song.duration - passage.to > passage.from ? { from: passage.to, to: song.duration } : { from: 0, to: passage.from };
  }
  towards.value = value;
}

async function picked(event: Event): Promise<void> {
  const input = event.target as HTMLInputElement;
  const file = input.files?.[0];
  input.value = "";
  if (!file) return;
  sending.value = 0;
  try {
    const made = await bringReference(file, (share) => (sending.value = share));
    files.value = [...files.value.filter((f) => f.id !== made.id), made];
    towards.value = made.id;
  } catch (problem) {
    complain(problem);
  }
  sending.value = null;
}

const moves = computed(() => (found.value?.moves ?? []) as unknown as Move[]);

const RANGE_DB = 15;
const { redraw } = usePicture(canvas, (g, w, h) => {
  g.fillStyle = colour("panel");
  g.fillRect(0, 0, w, h);
  const f = found.value;
  if (!f) return;
  const count = f.rung_hz.length;
  const y = (db: number) => h / 2 - (db / RANGE_DB) * (h / 2);
  g.fillStyle = colour("soft");
  f.own_db.forEach((own, i) => {
    const db = Math.max(-RANGE_DB, Math.min(RANGE_DB, own - (f.other_db[i] ?? 0)));
    g.globalAlpha = 0.4 * (f.weights[i] ?? 0);
    g.fillRect((i / count) * w + 1, Math.min(y(0), y(db)), w / count - 2, Math.abs(y(db) - y(0)));
  });
  g.globalAlpha = 1;
  g.strokeStyle = colour("ink");
  g.strokeRect(-1, y(0), w + 2, 0.5);
  g.strokeStyle = colour("treat");
  g.lineWidth = 2;
  g.beginPath();
  f.behind_db.forEach((behind, i) => (f.weights[i] ?? 0) > 0 && g.lineTo(((i + 0.5) / count) * w, y(behind - (f.other_db[i] ?? 0))));
  g.stroke();
  g.lineWidth = 1;
});
watch(found, redraw);

function listen(): void {
  if (bench.trackId === null) return;
  live.previewMoves(bench.trackId, heard.value ? [...bench.moves, ...moves.value.map((m, i) => ({ ...m, id: PROPOSED + i, enabled: true }))] : null);
}
watch([heard, moves], listen);
onBeforeUnmount(() => heard.value && bench.trackId !== null && live.previewMoves(bench.trackId, null));

async function take(): Promise<void> {
  const strip = bench.track;
  if (!strip) return;
  heard.value = false;
  const made = moves.value.map((m) => ({ track_id: strip.id, move: { ...m, enabled: true, links: ["balance"] } as Move }));
  if (await changes.acceptCarves(`${strip.name}: balance towards ${named.value}`, made)) emit("end");
}
</script>

<template>
  <div class="part" role="group" aria-label="Balance">
    <div class="row">
      <ElSelect :model-value="towards ?? undefined" size="small" placeholder="towards what?" aria-label="Balance towards" @change="choose">
        <ElOption v-for="s in others" :key="s.id" :value="s.id" :label="s.name" />
        <ElOption v-for="f in files" :key="f.id" :value="f.id" :label="f.name" />
        <ElOption :value="OWN" label="this track at other times" /><ElOption :value="FILE" label="a sound file …" />
      </ElSelect>
      <input ref="picker" type="file" class="hidden-text" tabindex="-1" aria-label="Reference file" @change="picked" />
      <NumberField label="" bare unit="%" :model-value="strength" :min="0" :max="100" :step="5" :digits="0" @change="strength = $event" />
      <ElCheckbox v-model="onlyCuts" size="small" label="only cuts" />
    </div>
    <div v-if="towards !== null" class="row">
      <NumberField label="at most" unit="dB" compact :model-value="limit" :min="0.5" :max="24" :step="0.5" title="no more than this is asked anywhere" @change="limit = $event" />
      <NumberField label="smoothed over" unit="oct" compact :model-value="smooth" :min="0" :max="3" :step="0.1" :digits="2" @change="smooth = $event" />
    </div>
    <div v-if="towards === OWN" class="row">
      <NumberField label="from" unit="s" :model-value="elsewhere.from" :min="0" :max="song.duration" :step="1" :digits="1" @change="elsewhere = { ...elsewhere, from: $event }" />
      <NumberField label="to" unit="s" :model-value="elsewhere.to" :min="0" :max="song.duration" :step="1" :digits="1" @change="elsewhere = { ...elsewhere, to: $event }" />
    </div>
    <p v-if="sending !== null" class="soft" role="status">Reading the file … {{ Math.round(100 * sending) }} %</p>
    <p v-if="error" class="soft">{{ error.message }}</p>
    <template v-else-if="found && towards !== null">
      <canvas ref="canvas" role="img" :aria-label="`Difference in ${found.rung_hz.length} rungs, before and with the moves, 15 dB either way`" />
      <p role="status">The rungs differ by {{ found.before_db.toFixed(1) }} dB RMS at equal loudness, with the moves by {{ found.after_db.toFixed(1) }}. <span class="soft">Grey: now; line: with them; up is more here.</span></p>
      <p class="figure soft">{{ moves.map((m) => `${nameOf(m)} ${writeHz(placeOf(m))} ${gainWords(m)}`).join(" · ") || "Nothing to do." }}</p>
    </template>
    <div class="row">
      <button type="button" class="plain small" :disabled="!moves.length" :aria-pressed="heard" @click="heard = !heard">Hear them</button>
      <button type="button" class="plain small" :disabled="!moves.length" @click="take()">Make {{ moves.length === 1 ? "it" : "them" }}</button>
      <button type="button" class="plain small quiet" @click="emit('end')">Leave</button>
    </div>
  </div>
</template>

<style scoped>
.part { display: flex; flex-direction: column; gap: 4px; border: 1px solid var(--treat); padding: 6px 8px; font-size: 12px; }
.row { display: flex; gap: 6px; align-items: center; }
.row .el-select { flex: 1; }
canvas { width: 100%; height: 84px; border: 1px solid var(--line); }
p { margin: 0; line-height: 1.25; }
.figure { font-size: 11px; }
</style>
