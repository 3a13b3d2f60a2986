<script setup lang="ts">
/** A column a track: its loudness per auditory band, what is kept filled and what is lost hollow; clashes as spans between. */
import { computed, ref, watch } from "vue";
import type { Clash, HeardTrack } from "../../api/client";
import { frequencyToY, yToFrequency } from "../../lib/axis";
import { colour, usePicture } from "../../lib/canvas";
import { MOST_SPANS, idOf } from "../../lib/clashes";
import { useClashes } from "../../stores/clashes";
import { useProbe } from "../../stores/probe";
import { useSong } from "../../stores/song";
import { useView } from "../../stores/view";

const GAP = 22;
const ROOM = 0.94;
const CIRCLE = 9;

const clashes = useClashes();
const probe = useProbe();
const song = useSong();
const view = useView();
const canvas = ref<HTMLCanvasElement | null>(null);

const tracks = computed(() =>
  clashes.columns.map((id) => clashes.found?.tracks.find((t) => t.track_id === id)).filter((t): t is HeardTrack => t !== undefined),
);
const loudest = computed(() => Math.max(1e-3, ...tracks.value.flatMap((t) => t.alone)));
const spans = computed(() => {
  const list = clashes.shown.slice(0, MOST_SPANS);
  const c = clashes.chosen;
  return c && !list.some((x) => idOf(x) === idOf(c)) ? [...list, c] : list;
});

const widthOf = (whole: number) => (whole - GAP * (tracks.value.length - 1)) / Math.max(1, tracks.value.length);
const leftOf = (i: number, whole: number) => i * (widthOf(whole) + GAP);

const { width, height, redraw } = usePicture(canvas, (g, w, h) => {
  const column = widthOf(w);
  tracks.value.forEach((track, i) => drawColumn(g, track, leftOf(i, w), column, h));
  const order = [...spans.value].reverse();
  for (const clash of order) drawSpan(g, clash, w, h);
});

function outline(g: CanvasRenderingContext2D, values: readonly number[], x: number, column: number, h: number): void {
  const hz = clashes.found?.hz ?? [];
  const at = (v: number) => x + 1 + Math.sqrt(v / loudest.value) * column * ROOM;
  g.beginPath();
  g.moveTo(x + 1, frequencyToY(hz[0] ?? 50, view.frequencies, h));
  values.forEach((v, b) => g.lineTo(at(v), frequencyToY(hz[b] ?? 50, view.frequencies, h)));
  g.lineTo(x + 1, frequencyToY(hz.at(-1) ?? 15_000, view.frequencies, h));
}

function drawColumn(g: CanvasRenderingContext2D, track: HeardTrack, x: number, column: number, h: number): void {
  g.fillStyle = colour("panel");
  g.fillRect(x, 0, column, h);
  g.save();
  g.beginPath();
  g.rect(x, 0, column, h);
  g.clip();
  outline(g, track.alone, x, column, h);
  g.strokeStyle = colour("soft");
  g.stroke();
  outline(g, track.kept_bands, x, column, h);
  g.closePath();
  g.fillStyle = colour("ink");
  g.globalAlpha = 0.62;
  g.fill();
  g.restore();
  g.strokeStyle = colour("line");
  g.strokeRect(Math.round(x) + 0.5, 0.5, Math.round(column) - 1, h - 1);
}

interface Box { readonly x: number; readonly y: number; readonly w: number; readonly h: number }

function boxOf(clash: Clash, id: number, w: number, h: number): Box | null {
  const i = clashes.columns.indexOf(id);
  if (i < 0) return null;
  const top = frequencyToY(clash.to_hz, view.frequencies, h);
  const bottom = frequencyToY(clash.from_hz, view.frequencies, h);
  return { x: leftOf(i, w) + 3, y: top, w: widthOf(w) - 6, h: Math.max(6, bottom - top) };
}

/** What is covered is hatched, what covers is framed; a thin bracket behind the columns between joins them. */
function drawSpan(g: CanvasRenderingContext2D, clash: Clash, w: number, h: number): void {
  const here = boxOf(clash, clash.covered, w, h);
  const there = boxOf(clash, clash.by, w, h);
  if (!here || !there) return;
  const is = idOf(clash) === clashes.chosenId;
  g.strokeStyle = g.fillStyle = colour("clash");
  g.globalAlpha = is || clashes.chosenId === null ? 1 : 0.35;
  g.lineWidth = is ? 2 : 1;
  g.strokeRect(there.x, there.y, there.w, there.h);
  g.strokeRect(here.x, here.y, here.w, here.h);
  hatch(g, here, is);
  const n = clashes.numberOf(clash);
  const y = here.y + here.h / 2;
  const right = there.x > here.x;
  const from = right ? here.x + here.w : here.x;
  const to = right ? there.x : there.x + there.w;
  const yTo = Math.min(Math.max(y, there.y + 3), there.y + there.h - 3);
  g.setLineDash(Math.abs(clashes.columns.indexOf(clash.covered) - clashes.columns.indexOf(clash.by)) > 1 ? [4, 3] : []);
  g.beginPath();
  g.moveTo(from, y - 2);
  g.lineTo(to, yTo - 2);
  g.moveTo(from, y + 2);
  g.lineTo(to, yTo + 2);
  g.stroke();
  g.setLineDash([]);
  const x = circleX(here, right);
  g.beginPath();
  g.arc(x, y, CIRCLE, 0, 2 * Math.PI);
  g.fillStyle = is ? colour("clash") : colour("panel");
  g.fill();
  g.stroke();
  g.fillStyle = is ? colour("panel") : colour("clash");
  g.font = `600 11px ${colour("sans")}`;
  g.textAlign = "center";
  g.textBaseline = "middle";
  g.fillText(`${n}`, x, y + 0.5);
  g.lineWidth = 1;
  g.globalAlpha = 1;
}

const circleX = (box: Box, right: boolean) => (right ? box.x + box.w - CIRCLE - 2 : box.x + CIRCLE + 2);

function hatch(g: CanvasRenderingContext2D, box: Box, strong: boolean): void {
  g.save();
  g.beginPath();
  g.rect(box.x, box.y, box.w, box.h);
  g.clip();
  g.globalAlpha *= strong ? 0.7 : 0.4;
  g.lineWidth = 1;
  g.beginPath();
  for (let x = box.x - box.h; x < box.x + box.w; x += 8) {
    g.moveTo(x, box.y + box.h);
    g.lineTo(x + box.h, box.y);
  }
  g.stroke();
  g.restore();
}

watch([tracks, spans, () => clashes.chosenId, () => view.frequencies], redraw);

/** The level of a column on the line, in dB SPL at the ear; null where there is no line. */
const read = (track: HeardTrack) => (probe.line === null ? null : valueOnBands(track.level_db));

function valueOnBands(values: number[]): number | null {
  const hz = clashes.found?.hz ?? [];
  const at = probe.line ?? 0;
  if (at < (hz[0] ?? 50) / 1.2 || at > (hz.at(-1) ?? 15_000) * 1.1) return null;
  const away = hz.map((f) => Math.abs(Math.log(f / at)));
  return values[away.indexOf(Math.min(...away))] ?? null;
}

function hover(event: PointerEvent): void {
  probe.moveLine(yToFrequency(event.offsetY, view.frequencies, height.value));
}

/** A press on a span chooses its clash: the smallest one under the pointer. */
function press(event: MouseEvent): void {
  const inside = spans.value.filter((c) => [c.covered, c.by].some((id) => {
    const box = boxOf(c, id, width.value, height.value);
    return box && event.offsetX >= box.x && event.offsetX <= box.x + box.w && event.offsetY >= box.y && event.offsetY <= box.y + box.h;
  }));
  inside.sort((a, b) => a.to_hz / a.from_hz - b.to_hz / b.from_hz);
  if (inside[0]) clashes.choose(inside[0]);
}

const groupOf = (id: number) => song.groups.find((g) => g.id === id) ?? null;
const isLooked = (id: number) => clashes.trackId === id || clashes.againstId === id;
</script>

<template>
  <div class="columns">
    <div class="heads" :style="{ gridTemplateColumns: `repeat(${Math.max(1, tracks.length)}, minmax(0, 1fr))`, columnGap: `${GAP}px` }">
      <div v-for="t in tracks" :key="t.track_id" class="headed">
        <button v-if="groupOf(t.track_id)" type="button" class="open" :aria-label="`Show the tracks of ${clashes.nameOf(t.track_id)}`" title="show its tracks" @click="clashes.openGroup(t.track_id, true)">
          <svg viewBox="0 0 10 10" aria-hidden="true"><path d="M3 1 L8 5 L3 9 Z" /></svg>
        </button>
        <button
          type="button" class="head" :aria-pressed="isLooked(t.track_id)"
          :title="`${t.loudness.toFixed(1)} sones alone, ${t.in_mix.toFixed(1)} ${clashes.againstId === null ? 'in the mix' : 'beside the other'}. Press to see only what concerns it, then another one for the two alone.`"
          @click="clashes.look(t.track_id)"
        >
          <strong>{{ clashes.nameOf(t.track_id) }}</strong>
          <span class="figure">
            <template v-if="read(t) !== null">{{ (read(t) ?? 0) > -20 ? `${Math.round(read(t) ?? 0)} dB` : "–" }}</template>
            <template v-else>{{ Math.round(100 * t.kept) }} % kept</template>
          </span>
        </button>
      </div>
    </div>
    <canvas
      ref="canvas" role="img" data-test="columns"
      :aria-label="`Loudness per auditory band of ${tracks.length} tracks: filled what is kept in the mix, hollow what is lost; ${spans.length} clashes between them`"
      @pointermove="hover" @pointerleave="probe.moveLine(null)" @click="press"
    />
  </div>
</template>

<style scoped>
.columns { display: grid; grid-template-rows: 36px minmax(0, 1fr); min-height: 0; min-width: 0; }
.heads { display: grid; }
.headed { display: flex; align-items: start; min-width: 0; }
.open { border: 0; background: none; padding: 4px 2px 0 0; cursor: pointer; line-height: 0; }
.open svg { width: 10px; height: 10px; fill: var(--ink); }
.head { border: 0; background: none; text-align: left; padding: 0 2px; font: inherit; font-size: 12px; color: var(--ink); cursor: pointer; line-height: 1.25; min-width: 0; }
.head strong { display: block; font-weight: 500; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
.head[aria-pressed="true"] strong { font-weight: 700; text-decoration: underline; text-underline-offset: 3px; }
.head .figure { font-size: 11px; color: var(--soft); }
canvas { width: 100%; height: 100%; display: block; cursor: crosshair; min-height: 0; }
</style>
