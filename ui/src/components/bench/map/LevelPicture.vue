<script setup lang="ts">
/** Level over time as the chosen dynamic move reads it, its threshold as a line to drag; what is over it is inked. */
import { computed, ref, watch } from "vue";
import { timeToX } from "../../../lib/axis";
import { colour, usePicture } from "../../../lib/canvas";
import { useDrag } from "../../../lib/drag";
import { signed } from "../../../lib/notes";
import { useLive } from "../../../live/session";
import { useBench } from "../../../stores/bench";
import { useLevels } from "../../../stores/levels";
import { useView } from "../../../stores/view";

const bench = useBench();
const live = useLive();
const view = useView();
const store = useLevels();
const canvas = ref<HTMLCanvasElement | null>(null);
const beginDrag = useDrag();

const threshold = computed(() => bench.chosenMove?.threshold_db ?? 0);
const below = computed(() => bench.chosenMove?.acts === "below");
const unit = computed(() => (bench.chosenMove?.threshold_of === "strip" ? "dB of the key" : "dBFS"));
/** What is drawn, lowest and highest level in dB. */
const scale = computed(() => {
  const heard = (store.levels?.level_db ?? []).filter((db) => db > -100);
  const top = Math.max(threshold.value + 6, ...heard) + 4;
  return { top, bottom: Math.min(threshold.value - 6, top - 54) };
});
const yOf = (db: number, h: number) => ((scale.value.top - db) / (scale.value.top - scale.value.bottom)) * h;
/** Share of the time in which it acts with the threshold where it stands. */
const acts = computed(() => {
  const all = store.levels?.level_db ?? [];
  if (!all.length) return 0;
  const over = all.filter((db) => db > threshold.value).length / all.length;
  return below.value ? 1 - over : over;
});

const { height, redraw } = usePicture(canvas, (g, w, h) => {
  g.fillStyle = colour("panel");
  g.fillRect(0, 0, w, h);
  const levels = store.levels;
  const y = yOf(threshold.value, h);
  if (levels) {
    const step = levels.times_s.length > 1 ? (levels.times_s[1] as number) - (levels.times_s[0] as number) : 0.1;
    levels.times_s.forEach((t, i) => {
      const x = timeToX(t, view.times, w);
      const wide = Math.max(1, timeToX(t + step, view.times, w) - x + 0.5);
      if (x + wide < 0 || x > w) return;
      const top = yOf(levels.level_db[i] as number, h);
      g.fillStyle = colour("line");
      g.fillRect(x, top, wide, h - top);
      g.fillStyle = colour("ink");
      if (below.value ? top > y : top < y) g.fillRect(x, Math.min(top, y), wide, Math.abs(y - top));
    });
  }
  g.strokeStyle = colour("treat");
  g.lineWidth = 2;
  g.beginPath();
  g.moveTo(0, y);
  g.lineTo(w, y);
  g.stroke();
  g.lineWidth = 1;
  const x = timeToX(live.position, view.times, w);
  g.strokeStyle = colour("stand-out");
  g.beginPath();
  g.moveTo(x, 0);
  g.lineTo(x, h);
  g.stroke();
});
watch([() => store.levels, threshold, () => view.times, () => live.position, scale], redraw);

const clamp = (db: number) => Math.min(24, Math.max(-120, Number(db.toFixed(1))));

function drag(event: PointerEvent): void {
  const id = bench.chosen;
  if (id === null) return;
  const from = threshold.value;
  const perPixel = (scale.value.top - scale.value.bottom) / height.value;
  let to = from;
  beginDrag(event, {
    move: (e, _dx, dy) => {
      to = clamp(from - dy * perPixel * (e.shiftKey ? 0.1 : 1));
      bench.previewMove(id, { threshold_db: to });
    },
    end: () => {
      if (to !== from) void bench.saveMove(id, { threshold_db: to });
    },
  });
}

function keys(event: KeyboardEvent): void {
  const step = { ArrowUp: 0.5, ArrowDown: -0.5, PageUp: 5, PageDown: -5 }[event.key];
  if (step === undefined || bench.chosen === null) return;
  event.preventDefault();
  event.stopPropagation();
  void bench.saveMove(bench.chosen, { threshold_db: clamp(threshold.value + step * (event.shiftKey ? 0.2 : 1)) });
}

const suggest = () => bench.chosen !== null && store.levels && void bench.saveMove(bench.chosen, { threshold_db: store.levels.suggested_db });
</script>

<template>
  <div class="levels" data-test="levels">
    <canvas ref="canvas" role="img" aria-label="Level that the move reads over the passage" />
    <div
      class="line" role="slider" tabindex="0" aria-orientation="vertical" aria-label="Threshold" :aria-valuenow="threshold" aria-valuemin="-120" aria-valuemax="24"
      :aria-valuetext="`${signed(threshold, 1)} ${unit}`" :style="{ top: `${yOf(threshold, height)}px` }" @pointerdown.prevent="drag" @keydown="keys"
    >
      <span class="figure" :class="{ under: yOf(threshold, height) < 44 }">{{ signed(threshold, 1) }} {{ unit }}</span>
    </div>
    <div class="said">
      <span v-if="store.levels">{{ below ? "under" : "over" }} it {{ (100 * acts).toFixed(acts < 0.1 ? 1 : 0) }} % of the time, by {{ signed(store.levels.most_db, 1) }} dB at most</span>
      <span v-else>reading the level …</span>
      <button v-if="store.levels" type="button" class="plain small" :title="`such that it acts for ${store.levels.suggested_for}: ${signed(store.levels.suggested_db, 1)}`" @click="suggest">Set it for me</button>
    </div>
  </div>
</template>

<style scoped>
.levels { position: relative; height: 100%; border: 1px solid var(--line); border-top: 0; overflow: hidden; }
canvas { width: 100%; height: 100%; display: block; }
.line { position: absolute; left: 0; right: 0; height: 12px; margin-top: -6px; cursor: ns-resize; touch-action: none; z-index: 3; }
.line span { position: absolute; right: 4px; bottom: 7px; font-size: 10.5px; color: var(--treat); background: var(--panel); padding: 0 3px; white-space: nowrap; }
.line span.under { bottom: auto; top: 7px; }
.said { position: absolute; left: 5px; top: 3px; right: 5px; display: flex; gap: 8px; align-items: baseline; justify-content: space-between; font-size: 11px; color: var(--ink); z-index: 4; pointer-events: none; }
.said > span { background: var(--panel); padding: 0 3px; }
.said button { pointer-events: auto; }
</style>
