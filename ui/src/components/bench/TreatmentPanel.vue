<script setup lang="ts">
/** The treatment: cut to the left of zero, boost to the right; a numbered square for each move. */
import { computed, ref, watch } from "vue";
import { clampFrequency, frequencyToY, levelScale, levelTicks, yToFrequency } from "../../lib/axis";
import { colour, usePicture } from "../../lib/canvas";
import { useDrag } from "../../lib/drag";
import { type Axis, type Move, dragAxis, hasGain, shapeLabel } from "../../lib/moves";
import { signed, writeHz } from "../../lib/notes";
import { useLive } from "../../live/session";
import { useBench } from "../../stores/bench";
import { useView } from "../../stores/view";
import { useProbe } from "../../stores/probe";

const bench = useBench();
const live = useLive();
const view = useView();
const probe = useProbe();
const canvas = ref<HTMLCanvasElement | null>(null);
const beginDrag = useDrag();

/** Left and right end in dB: wide enough for all moves. */
const scale = computed(() => {
  const gains = bench.moves.filter((m) => hasGain(m.shape)).map((m) => m.gain_db);
  const deepest = Math.min(-12, ...gains.map((g) => Math.floor((g - 2) / 6) * 6));
  const highest = Math.max(6, ...gains.map((g) => Math.ceil((g + 2) / 6) * 6));
  return { low: deepest, high: highest };
});
const gainScale = (w: number) => levelScale(scale.value.low, scale.value.high, w);

const { width, height, redraw } = usePicture(canvas, (g, w, h) => {
  g.fillStyle = colour("panel");
  g.fillRect(0, 0, w, h);
  drawScale(g, w, h);
  const c = live.curves;
  if (!c || c.trackId !== bench.trackId) return;
  const x = gainScale(w);
  const trace = (values: ArrayLike<number>) => {
    g.beginPath();
    for (let i = 0; i < live.grid.length; i++) {
      const db = Math.max(values[i] as number, scale.value.low - 60);
      g.lineTo(x(db), frequencyToY(live.grid[i] as number, view.frequencies, h));
    }
  };
  const single = bench.chosen === null ? undefined : c.each.get(bench.chosen);
  if (single && bench.chosenMove) {
    trace(single);
    g.lineTo(x(0), frequencyToY(live.grid.at(-1) ?? 20000, view.frequencies, h));
    g.lineTo(x(0), frequencyToY(live.grid[0] ?? 20, view.frequencies, h));
    g.fillStyle = colour("treat-soft");
    g.fill();
  }
  trace(c.total);
  g.strokeStyle = colour("treat");
  g.lineWidth = 2;
  g.stroke();
  g.lineWidth = 1;
});

function drawScale(g: CanvasRenderingContext2D, w: number, h: number): void {
  g.font = `10px ${colour("mono")}`;
  g.textAlign = "center";
  const { low, high } = scale.value;
  const gainToX = gainScale(w);
  const step = high - low > 30 ? 12 : high - low > 18 ? 6 : 3;
  for (const db of levelTicks(low, high, step)) {
    const x = Math.round(gainToX(db)) + 0.5;
    g.strokeStyle = db === 0 ? colour("ink") : colour("line");
    g.beginPath();
    g.moveTo(x, 0);
    g.lineTo(x, h - 14);
    g.stroke();
    g.fillStyle = colour("soft");
    if (x > 10 && x < w - 8) g.fillText(signed(db, 0), x, h - 3);
  }
}

watch([() => live.curves, () => view.frequencies, () => bench.moves, () => bench.chosen], redraw, { deep: false });

interface Handle {
  move: Move;
  number: number;
  style: { left: string; top: string };
}

const handles = computed<Handle[]>(() =>
  bench.moves.map((move, i) => {
    const x = gainScale(width.value)(hasGain(move.shape) ? move.gain_db : 0);
    const y = frequencyToY(move.frequency_hz, view.frequencies, height.value);
    return { move, number: i + 1, style: { left: `${x}px`, top: `${y}px` } };
  }),
);
const inside = (handle: Handle) => {
  const y = parseFloat(handle.style.top);
  return y >= -2 && y <= height.value + 2;
};

function drag(event: PointerEvent, move: Move): void {
  bench.chosen = move.id;
  let axis: Axis = null;
  let values: Partial<Move> = {};
  const y0 = frequencyToY(move.frequency_hz, view.frequencies, height.value);
  beginDrag(event, {
    move: (e, dx, dy) => {
      axis = dragAxis(dx, dy, e.shiftKey, axis);
      values = {};
      if (axis === "frequency" || axis === "both") {
        const hz = clampFrequency(yToFrequency(y0 + dy, view.frequencies, height.value));
        values.frequency_hz = Number(hz.toFixed(2));
      }
      if ((axis === "gain" || axis === "both") && hasGain(move.shape)) {
        const perPixel = (scale.value.high - scale.value.low) / width.value;
        values.gain_db = Math.min(24, Math.max(-30, Number((move.gain_db + dx * perPixel).toFixed(1))));
      }
      if (Object.keys(values).length) bench.previewMove(move.id, values);
    },
    end: () => {
      if (Object.keys(values).length) void bench.saveMove(move.id, values);
    },
  });
}

function keys(event: KeyboardEvent, move: Move): void {
  const fine = event.shiftKey ? 0.1 : 1;
  const hz = (steps: number) => ({ frequency_hz: clampFrequency(Number((move.frequency_hz * 2 ** (steps / 48)).toFixed(2))) });
  const db = (steps: number) => (hasGain(move.shape) ? { gain_db: Number((move.gain_db + 0.5 * steps).toFixed(2)) } : null);
  const values = { ArrowUp: hz(fine), ArrowDown: hz(-fine), ArrowLeft: db(-fine), ArrowRight: db(fine) }[event.key];
  if (!values) return;
  event.preventDefault();
  event.stopPropagation();
  bench.chosen = move.id;
  void bench.saveMove(move.id, values);
}

function hover(event: PointerEvent): void {
  probe.moveLine(yToFrequency(event.offsetY, view.frequencies, height.value));
}
</script>

<template>
  <div class="treatment" data-test="treatment">
    <canvas ref="canvas" role="img" aria-label="Treatment in dB over frequency" @pointermove="hover" @pointerleave="probe.moveLine(null)" />
    <button
      v-for="handle in handles.filter(inside)" :key="handle.move.id" type="button" class="handle figure"
      :class="{ chosen: handle.move.id === bench.chosen, off: !handle.move.enabled }" :style="handle.style"
      :aria-label="`Move ${handle.number}: ${shapeLabel(handle.move.shape)} ${writeHz(handle.move.frequency_hz)} Hz ${signed(handle.move.gain_db, 1)} dB. Arrow keys change it.`"
      @pointerdown.prevent="drag($event, handle.move)" @focus="bench.chosen = handle.move.id" @keydown="keys($event, handle.move)"
    >
      {{ handle.number }}
    </button>
  </div>
</template>

<style scoped>
.treatment { position: relative; height: 100%; overflow: hidden; }
canvas { width: 100%; height: 100%; display: block; border: 1px solid var(--line); }
.handle {
  position: absolute; width: 20px; height: 16px; margin: -8px 0 0 -10px; padding: 0; font-size: 11px; font-weight: 600; line-height: 13px;
  background: var(--panel); color: var(--treat); border: 1.5px solid var(--treat); border-radius: 2px; cursor: move;
  touch-action: none; z-index: 4;
}
.handle.chosen { background: var(--treat); color: var(--on-ink); }
.handle.off { border-style: dashed; text-decoration: line-through; }
</style>
