<script setup lang="ts">
/** Rungs: a row for each auditory band over the treatment, pulled down or up; each can be heard alone, or several together. */
import { computed, onBeforeUnmount, ref, watch } from "vue";
import { frequencyToY } from "../../lib/axis";
import { useDrag } from "../../lib/drag";
import type { Move } from "../../lib/moves";
import { signed, writeHz } from "../../lib/notes";
import { GREATEST_DB, aloneWith, bandsOf } from "../../lib/rungs";
import { toggled } from "../../lib/sets";
import { useLive } from "../../live/session";
import { useBench } from "../../stores/bench";
import { PROPOSED } from "../../stores/hearing";
import { useView } from "../../stores/view";

const props = defineProps<{
  move: Move;
  /** Left and right end in dB. */
  low: number;
  high: number;
  width: number;
  height: number;
}>();

const bench = useBench();
const live = useLive();
const view = useView();
const beginDrag = useDrag();
const heard = ref<ReadonlySet<number>>(new Set());
const root = ref<HTMLElement | null>(null);

const gains = computed(() => props.move.gains_db ?? []);
const x = (db: number) => ((db - props.low) / (props.high - props.low)) * props.width;
const rows = computed(() =>
  bandsOf(props.move.count ?? gains.value.length).map((band, i) => {
    const top = frequencyToY(band.to, view.frequencies, props.height);
    const gain = gains.value[i] ?? 0;
    const [from, to] = [Math.min(x(0), x(gain)), Math.max(x(0), x(gain))];
    return {
      band, gain,
      row: { top: `${top}px`, height: `${frequencyToY(band.from, view.frequencies, props.height) - top}px` },
      bar: { left: `${from}px`, width: `${Math.max(1, to - from)}px` },
    };
  }),
);

const clamp = (db: number) => Math.min(GREATEST_DB, Math.max(-GREATEST_DB, Number(db.toFixed(1))));
const changed = (i: number, db: number) => ({ gains_db: gains.value.map((g, k) => (k === i ? clamp(db) : g)) });

function drag(event: PointerEvent, i: number): void {
  const from = gains.value[i] ?? 0;
  let values: Partial<Move> | null = null;
  beginDrag(event, {
    move: (e, dx) => {
      const perPixel = ((props.high - props.low) / props.width) * (e.shiftKey ? 0.1 : 1);
      values = changed(i, from + dx * perPixel);
      bench.previewMove(props.move.id, values);
    },
    end: () => values && void bench.saveMove(props.move.id, values),
  });
}

function keys(event: KeyboardEvent, i: number): void {
  const step = event.shiftKey ? 0.1 : 0.5;
  const gain = gains.value[i] ?? 0;
  if (event.key === "ArrowLeft" || event.key === "ArrowRight") void bench.saveMove(props.move.id, changed(i, gain + (event.key === "ArrowLeft" ? -step : step)));
  else if (event.key === "ArrowUp" || event.key === "ArrowDown") focusRow(i + (event.key === "ArrowUp" ? 1 : -1));
  else if (event.key === "0" || event.key === "Delete") void bench.saveMove(props.move.id, changed(i, 0));
  else if (event.key === "Enter") hear(i);
  else return;
  event.preventDefault();
  event.stopPropagation();
}

function focusRow(i: number): void {
  root.value?.querySelectorAll<HTMLElement>("[role=slider]")[i]?.focus();
}

/** Hear a rung alone, or with those that are heard already; once more: without it. */
function hear(i: number): void {
  heard.value = toggled(heard.value, i);
}

function listen(): void {
  if (bench.trackId === null) return;
  if (!heard.value.size) return live.previewMoves(bench.trackId, null);
  const only = aloneWith(props.move.count ?? gains.value.length, heard.value).map((m, k) => ({ ...m, id: PROPOSED + k }));
  live.previewMoves(bench.trackId, [...bench.moves, ...only]);
}

watch([heard, () => bench.track?.moves], listen);
watch(() => props.move.count, () => (heard.value = new Set()));
onBeforeUnmount(() => {
  if (heard.value.size && bench.trackId !== null) live.previewMoves(bench.trackId, null);
});
</script>

<template>
  <div ref="root" class="rungs" role="group" aria-label="Rungs">
    <div v-for="({ band, gain, row, bar }, i) in rows" :key="i" class="rung" :class="{ heard: heard.has(i) }" :style="row">
      <div
        class="pull" role="slider" tabindex="0" :aria-label="`Rung at ${writeHz(band.centre)} Hz`"
        :aria-valuenow="gain" :aria-valuemin="-GREATEST_DB" :aria-valuemax="GREATEST_DB" :aria-valuetext="`${signed(gain, 1)} dB`"
        :title="`${writeHz(band.from)} to ${writeHz(band.to)} Hz: ${signed(gain, 1)} dB. Drag, or arrow keys; Enter hears it alone`"
        @pointerdown.prevent="drag($event, i)" @keydown="keys($event, i)"
      ><i :style="bar" /></div>
      <button type="button" class="ear" tabindex="-1" :aria-pressed="heard.has(i)" :aria-label="`Hear the rung at ${writeHz(band.centre)} Hz`" @click="hear(i)" />
    </div>
  </div>
</template>

<style scoped>
.rungs { position: absolute; inset: 0; overflow: hidden; z-index: 3; }
.rung { position: absolute; left: 0; right: 0; border-top: 1px solid var(--line); }
.pull { position: absolute; inset: 0; cursor: ew-resize; touch-action: none; }
.pull:focus-visible { outline: 2px solid var(--treat); outline-offset: -2px; }
.rung:hover { background: color-mix(in srgb, var(--treat) 8%, transparent); }
.rung.heard { background: var(--probe-soft); }
.rung i { position: absolute; top: 1px; bottom: 1px; background: var(--treat); opacity: 0.75; }
.ear { position: absolute; left: 2px; top: 50%; width: 8px; height: 8px; margin-top: -4px; padding: 0; border: 1px solid var(--soft); border-radius: 50%; background: var(--panel); cursor: pointer; opacity: 0; }
.rung:hover .ear, .ear[aria-pressed="true"] { opacity: 1; }
.ear[aria-pressed="true"] { background: var(--stand-out); border-color: var(--stand-out); }
</style>
