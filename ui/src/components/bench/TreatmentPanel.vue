<script setup lang="ts">
/** The treatment: cut to the left of zero, boost to the right; a numbered square for each move. */
import { computed, ref, watch } from "vue";
import { clampFrequency, frequencyToY, levelScale, levelTicks, yToFrequency } from "../../lib/axis";
import { colour, usePicture } from "../../lib/canvas";
import { useDrag } from "../../lib/drag";
import { type Axis, type Move, dragAxis, furthestOf, gainWords, hasGain, isAdaptive, isDynamic, isRungs, nameOf, placeOf, shapeOf } from "../../lib/moves";
import { signed, writeHz } from "../../lib/notes";
import { useLive } from "../../live/session";
import { useBench } from "../../stores/bench";
import { useCuts } from "../../stores/cuts";
import { useView } from "../../stores/view";
import RungsRows from "./RungsRows.vue";
import { useProbe } from "../../stores/probe";

const bench = useBench();
const live = useLive();
const view = useView();
const cuts = useCuts();
const probe = useProbe();
const canvas = ref<HTMLCanvasElement | null>(null);
const beginDrag = useDrag();

/** Whether its square stands at a gain; that of another stands on the zero line. */
const hasHandle = (move: Move) => !isRungs(move) && (isDynamic(move) || isAdaptive(move) || hasGain(shapeOf(move)));
/** Where its square stands: an adaptive one at its depth, any other at its static gain. */
const squareAt = (move: Move) => (isAdaptive(move) ? furthestOf(move) : hasHandle(move) ? (move.gain_db ?? 0) : 0);

/** Left and right end in dB: as it was fixed, else wide enough for all moves. */
const scale = computed(() => {
  if (view.reach) return { low: -view.reach, high: view.reach };
  const gains = bench.moves.flatMap((m) => (isRungs(m) ? (m.gains_db ?? []) : hasHandle(m) ? [m.gain_db ?? 0, furthestOf(m)] : []));
  const deepest = Math.min(-12, ...gains.map((g) => Math.floor((g - 2) / 6) * 6));
  const highest = Math.max(6, ...gains.map((g) => Math.ceil((g + 2) / 6) * 6));
  return { low: deepest, high: highest };
});
const gainScale = (w: number) => levelScale(scale.value.low, scale.value.high, w);

const { width, height, redraw } = usePicture(canvas, (g, w, h) => {
  g.fillStyle = colour("panel");
  g.fillRect(0, 0, w, h);
  drawScale(g, w, h);
  drawKept(g, w, h);
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
  for (const move of bench.moves) if (move.enabled) drawMoving(g, w, h, move);
  drawTaken(g, w, h);
  trace(c.total);
  g.strokeStyle = colour("treat");
  g.lineWidth = 2;
  g.stroke();
  g.lineWidth = 1;
});

const REACH = 2 ** 31;

/** What moves is hatched from where it rests to where it can go; where it is now is filled. */
function drawMoving(g: CanvasRenderingContext2D, w: number, h: number, move: Move): void {
  const x = gainScale(w);
  const now = live.report.moving[move.id] ?? 0;
  const outline = (near: (i: number) => number, far: (i: number) => number) => {
    g.beginPath();
    live.grid.forEach((hz, i) => g.lineTo(x(near(i)), frequencyToY(hz, view.frequencies, h)));
    for (let i = live.grid.length - 1; i >= 0; i--) g.lineTo(x(far(i)), frequencyToY(live.grid[i] as number, view.frequencies, h));
    g.closePath();
  };
  let rest: (i: number) => number;
  let reach: (i: number) => number;
  const range = isAdaptive(move) ? (move.most_db ?? 0) : (move.range_db ?? 0);
  if (isAdaptive(move)) {
    const inside = (i: number) => (live.grid[i] as number) >= (move.from_hz ?? 0) && (live.grid[i] as number) <= (move.to_hz ?? 0);
    rest = () => 0;
    reach = (i) => (inside(i) ? range : 0);
  } else if (isDynamic(move)) {
    const [a, b] = [live.curves?.each.get(move.id), live.curves?.each.get(move.id + REACH)];
    if (!a || !b) return;
    rest = (i) => a[i] as number;
    reach = (i) => b[i] as number;
  } else return;
  outline(rest, reach);
  g.fillStyle = hatching(g);
  g.fill();
  if (Math.abs(now) < 0.05 || !range) return;
  const share = Math.min(1, now / range);
  outline(rest, (i) => rest(i) + share * (reach(i) - rest(i)));
  g.globalAlpha = 0.45;
  g.fillStyle = colour("treat");
  g.fill();
  g.globalAlpha = 1;
}

/** What the chosen adaptive move took over the passage: on the whole filled, at its deepest as a line. */
function drawTaken(g: CanvasRenderingContext2D, w: number, h: number): void {
  const seen = cuts.picture;
  if (!seen?.hz.length) return;
  const x = gainScale(w);
  const along = (values: readonly number[]) => values.forEach((db, i) => g.lineTo(x(db), frequencyToY(seen.hz[i] as number, view.frequencies, h)));
  g.fillStyle = g.strokeStyle = colour("treat");
  g.beginPath();
  g.lineTo(x(0), frequencyToY(seen.hz[0] as number, view.frequencies, h));
  along(seen.mean_db);
  g.lineTo(x(0), frequencyToY(seen.hz.at(-1) as number, view.frequencies, h));
  g.globalAlpha = 0.55;
  g.fill();
  g.globalAlpha = 1;
  g.beginPath();
  along(seen.deepest_db);
  g.stroke();
}

/** Ranges that must stay. */
function drawKept(g: CanvasRenderingContext2D, w: number, h: number): void {
  for (const [low, high] of bench.track?.kept ?? []) {
    const [top, bottom] = [frequencyToY(high, view.frequencies, h), frequencyToY(low, view.frequencies, h)];
    g.fillStyle = colour("probe-soft");
    g.fillRect(0, top, w, bottom - top);
    g.fillStyle = colour("probe-text");
    g.textAlign = "left";
    g.fillText("keep", 4, (top + bottom) / 2 + 3);
  }
}

/** Thin slanted lines in the colour of what we do. */
function hatching(g: CanvasRenderingContext2D): CanvasPattern | string {
  const tile = document.createElement("canvas");
  tile.width = tile.height = 6;
  const t = tile.getContext("2d");
  if (!t) return colour("treat-soft");
  t.strokeStyle = colour("treat");
  t.globalAlpha = 0.55;
  t.beginPath();
  t.moveTo(-1, 7);
  t.lineTo(7, -1);
  t.stroke();
  return g.createPattern(tile, "repeat") ?? colour("treat-soft");
}

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

watch([() => live.curves, () => view.frequencies, () => bench.moves, () => bench.chosen, () => live.report.moving, () => cuts.picture, () => bench.track?.kept, () => view.reach], redraw, { deep: false });

interface Handle {
  move: Move;
  number: number;
  style: { left: string; top: string };
}

/** Rungs are worked on as rows while they are chosen. */
const rungs = computed(() => (bench.chosenMove && isRungs(bench.chosenMove) ? bench.chosenMove : null));

const handles = computed<Handle[]>(() =>
  bench.moves.map((move, i) => {
    const x = gainScale(width.value)(squareAt(move));
    const y = frequencyToY(placeOf(move), view.frequencies, height.value);
    return { move, number: i + 1, style: { left: `${x}px`, top: `${y}px` } };
  }),
);
const inside = (handle: Handle) => {
  if (rungs.value || isRungs(handle.move)) return false;
  const y = parseFloat(handle.style.top);
  return y >= -2 && y <= height.value + 2;
};

function drag(event: PointerEvent, move: Move): void {
  bench.chosen = move.id;
  let axis: Axis = null;
  let values: Partial<Move> = {};
  const y0 = frequencyToY(placeOf(move), view.frequencies, height.value);
  beginDrag(event, {
    move: (e, dx, dy) => {
      axis = dragAxis(dx, dy, e.shiftKey, axis);
      values = {};
      const perPixel = (scale.value.high - scale.value.low) / width.value;
      if (isRungs(move)) return;
      if (axis === "frequency" || axis === "both") {
        const hz = clampFrequency(yToFrequency(y0 + dy, view.frequencies, height.value));
        Object.assign(values, placedAt(move, hz));
      }
      if ((axis === "gain" || axis === "both") && hasHandle(move)) Object.assign(values, gainedBy(move, dx * perPixel));
      if (Object.keys(values).length) bench.previewMove(move.id, values);
    },
    end: () => {
      if (Object.keys(values).length) void bench.saveMove(move.id, values);
    },
  });
}

/** Its values with its centre, or the middle of its range, elsewhere. */
function placedAt(move: Move, hz: number): Partial<Move> {
  if (!isAdaptive(move)) return { frequency_hz: Number(hz.toFixed(2)) };
  const factor = hz / placeOf(move);
  return { from_hz: clampFrequency(Number(((move.from_hz ?? 20) * factor).toFixed(1))), to_hz: clampFrequency(Number(((move.to_hz ?? 20_000) * factor).toFixed(1))) };
}

function gainedBy(move: Move, db: number): Partial<Move> {
  if (isAdaptive(move)) return { most_db: Math.min(0, Math.max(-36, Number(((move.most_db ?? 0) + db).toFixed(1)))) };
  return { gain_db: Math.min(24, Math.max(-30, Number(((move.gain_db ?? 0) + db).toFixed(2)))) };
}

function keys(event: KeyboardEvent, move: Move): void {
  const fine = event.shiftKey ? 0.1 : 1;
  const hz = (steps: number) => placedAt(move, clampFrequency(placeOf(move) * 2 ** (steps / 48)));
  const db = (steps: number) => (hasHandle(move) ? gainedBy(move, 0.5 * steps) : null);
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
      :class="{ chosen: handle.move.id === bench.chosen, off: !handle.move.enabled, moving: handle.move.mode !== 'static' }" :style="handle.style"
      :aria-label="`Move ${handle.number}: ${nameOf(handle.move)} ${writeHz(placeOf(handle.move))} Hz ${gainWords(handle.move)}. Arrow keys change it.`"
      @pointerdown.prevent="drag($event, handle.move)" @focus="bench.chosen = handle.move.id" @keydown="keys($event, handle.move)"
    >
      {{ handle.number }}
    </button>
    <RungsRows v-if="rungs" :key="rungs.id" :move="rungs" :low="scale.low" :high="scale.high" :width="width" :height="height" />
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
.handle.moving:not(.chosen) { background: repeating-linear-gradient(-45deg, var(--panel) 0 3px, var(--treat-soft) 3px 6px); }
.handle.off { border-style: dashed; text-decoration: line-through; }
</style>
