<script setup lang="ts">
/** Two snapshots of a strip side by side, on the common axis: what each changes, what it takes, how loud it is, what is kept in the mix. */
import { useQuery } from "@tanstack/vue-query";
import { ElDialog, ElOption, ElSelect } from "element-plus";
import { computed, ref, watch } from "vue";
import { cache } from "../data/cache";
import { comparedQuery } from "../data/queries";
import { WHOLE, frequencyTicks, frequencyToY } from "../lib/axis";
import { colour, usePicture } from "../lib/canvas";
import { soundOf } from "../lib/clashes";
import { signed, writeHz, writeTime } from "../lib/notes";
import { takesOf } from "../lib/takes";
import { useSnapshots } from "../stores/snapshots";
import { useSong } from "../stores/song";
import { useView } from "../stores/view";

const props = defineProps<{ stripId: number; first: number }>();
defineEmits<{ end: [] }>();
const song = useSong();
const view = useView();
const snapshots = useSnapshots();
const NOW = 0;
const second = ref(NOW);
/** Those that hold the strip. */
const others = computed(() => snapshots.all.filter((s) => s.id !== props.first && (s.strip_id === null || s.strip_id === props.stripId)));
const canvas = ref<HTMLCanvasElement | null>(null);
const { data: found, error } = useQuery(computed(() => comparedQuery(song.id, props.stripId, props.first, second.value || null, view.passage, soundOf(song.song))), cache);
const sides = computed(() =>
  (found.value?.sides ?? []).map((side) => ({ ...side, takes: takesOf(found.value?.grid_hz ?? [], side.untreated_db, side.treated_db) })),
);
const most = computed(() => Math.max(6, ...sides.value.flatMap((s) => s.takes.thirds.map((t) => Math.abs(t.db)))));
const range = computed(() => Math.min(24, 6 * Math.ceil((1.05 * most.value) / 6)));
const LEFT = 44, GAP = 16, TOP = 16, BOTTOM = 6;

/** In each column the change by third octaves as bars, and finer as a line; the middle of a column is no change. */
const { redraw } = usePicture(canvas, (g, w, h) => {
  const f = found.value;
  if (!f) return;
  const column = (w - LEFT - GAP) / 2;
  const y = (hz: number) => TOP + frequencyToY(hz, WHOLE, h - TOP - BOTTOM);
  g.font = "10px sans-serif";
  g.textBaseline = "middle";
  for (const hz of frequencyTicks(WHOLE)) {
    g.fillStyle = colour("soft");
    g.fillText(writeHz(hz), 0, y(hz));
    g.fillStyle = colour("line");
    g.fillRect(LEFT, y(hz), w - LEFT, 0.5);
  }
  sides.value.forEach((side, i) => {
    const left = LEFT + i * (column + GAP);
    const x = (db: number) => left + column / 2 + (Math.max(-range.value, Math.min(range.value, db)) / range.value) * (column / 2);
    g.fillStyle = colour("soft");
    g.textAlign = "center";
    for (const db of [-range.value, -range.value / 2, 0, range.value / 2, range.value]) {
      const at = Math.min(left + column - 8, Math.max(left + 8, x(db)));
      g.fillText(signed(db, 0), at, 6);
    }
    g.textAlign = "start";
    g.fillRect(x(0), TOP, 0.5, h);
    for (const third of side.takes.thirds) {
      const [top, bottom] = [y(third.hz * 2 ** (1 / 6)) + 0.5, y(third.hz / 2 ** (1 / 6)) - 0.5];
      g.fillStyle = colour(third.db < 0 ? "treat-soft" : "stand-out");
      g.globalAlpha = third.db < 0 ? 1 : 0.35;
      g.fillRect(Math.min(x(0), x(third.db)), top, Math.abs(x(third.db) - x(0)), Math.max(1, bottom - top));
    }
    g.globalAlpha = 1;
    g.strokeStyle = colour("treat");
    g.lineWidth = 1.5;
    g.beginPath();
    f.grid_hz.forEach((hz, n) => g.lineTo(x((side.treated_db[n] ?? 0) - (side.untreated_db[n] ?? 0)), y(hz)));
    g.stroke();
  });
});
watch([sides, range], redraw);
const percent = (share: number | null) => (share === null ? "–" : `${(100 * share).toFixed(0)} %`);
</script>

<template>
  <ElDialog :model-value="true" width="640" top="6vh" :title="`${song.stripOf(stripId)?.name ?? ''}, side by side`" @close="$emit('end')">
    <label v-if="others.length" class="beside">beside
      <ElSelect v-model="second" size="small" aria-label="Beside which"><ElOption :value="NOW" label="as it is now" /><ElOption v-for="o in others" :key="o.id" :value="o.id" :label="o.name" /></ElSelect>
    </label>
    <p v-if="error" class="soft">{{ error.message }}</p>
    <p v-else-if="!found" class="soft" role="status">Measuring both over the passage …</p>
    <template v-else>
      <table>
        <thead><tr><td /><th v-for="s in sides" :key="s.name" scope="col">{{ s.name }}</th></tr></thead>
        <tbody class="figure">
          <tr><th scope="row">moves on</th><td v-for="s in sides" :key="s.name">{{ s.moves }}</td></tr>
          <tr><th scope="row">loudness</th><td v-for="s in sides" :key="s.name">{{ signed(s.loudness_lufs, 1) }} LUFS</td></tr>
          <tr><th scope="row">energy</th><td v-for="s in sides" :key="s.name">{{ signed(s.takes.energy_db, 1) }} dB</td></tr>
          <tr title="how much of its loudness is left among the other tracks"><th scope="row">kept in the mix</th><td v-for="s in sides" :key="s.name">{{ percent(s.kept) }}</td></tr>
        </tbody>
      </table>
      <canvas ref="canvas" role="img" :aria-label="`Change by frequency, ${range} dB either way: ${sides.map((s) => s.name).join(' and ')}`" />
      <p class="soft">Measured from {{ writeTime(found.from_s) }} to {{ writeTime(found.to_s) }}, behind everything. Bars: third octaves; line: the same, finer; left of the middle is taken away (dB).</p>
    </template>
  </ElDialog>
</template>

<style scoped>
.beside { display: flex; gap: 8px; align-items: center; font-size: 12px; margin-bottom: 4px; }
.beside .el-select { width: 220px; }
canvas { width: 100%; height: 380px; display: block; }
table { width: 100%; border-collapse: collapse; font-size: 12px; table-layout: fixed; }
th, td { text-align: left; padding: 1px 4px; font-weight: 400; }
thead th { font-weight: 600; }
tbody th { font-family: var(--sans); }
p { margin: 4px 0 0; font-size: 12px; white-space: normal; }
</style>
