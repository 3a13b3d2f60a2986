<script setup lang="ts">
/** The time map: level over time and frequency, from tiles that the server measured. */
import { useQuery } from "@tanstack/vue-query";
import { computed, ref, shallowRef, watch } from "vue";
import type { MapInfo } from "../../../api/client";
import { cache } from "../../../data/cache";
import { mapQuery } from "../../../data/queries";
import { frequencyToY, mapLevel, panTime, timeToX, xToTime, yToFrequency, zoomTime } from "../../../lib/axis";
import { colour, usePicture } from "../../../lib/canvas";
import { useDrag } from "../../../lib/drag";
import { placeOf } from "../../../lib/moves";
import { useTheme } from "../../../lib/theme";
import { useLive } from "../../../live/session";
import { type Spot, useAlike } from "../../../stores/alike";
import { useBench } from "../../../stores/bench";
import { useCuts } from "../../../stores/cuts";
import { useFindings } from "../../../stores/findings";
import { useLevels } from "../../../stores/levels";
import { useProbe } from "../../../stores/probe";
import { useSong } from "../../../stores/song";
import { useView } from "../../../stores/view";
import { type Shown, type Sight, useTiles } from "./tiles";

const bench = useBench();
const song = useSong();
const live = useLive();
const findings = useFindings();
const view = useView();
const probe = useProbe();
const levels = useLevels();
const cuts = useCuts();
const alike = useAlike();
const marking = shallowRef<Spot | null>(null);
const beginDrag = useDrag();
const theme = useTheme();
const canvas = ref<HTMLCanvasElement | null>(null);
const { data: info } = useQuery(computed(() => mapQuery(song.id, bench.track?.id ?? null, bench.arrives)), cache);
const tiles = useTiles(() => redraw());

const shown = computed<Shown | null>(() => {
  const track = bench.track;
  if (!track || !song.song) return null;
  const sound = view.mapTreated ? JSON.stringify(bench.sound) : null;
  return { song: song.id, track: track.id, recording: bench.arrives, sound, revision: song.song.revision };
});

const { width, height, redraw } = usePicture(canvas, (g, w, h) => {
  g.fillStyle = colour("panel");
  g.fillRect(0, 0, w, h);
  if (info.value && shown.value) drawMap(g, w, h, info.value, shown.value);
  drawFindings(g, w, h);
  drawMoving(g, w, h);
  drawCuts(g, w, h);
  drawAlike(g, w, h);
  const passage = view.passage;
  if (passage && view.mapWhole) {
    g.strokeStyle = colour("probe");
    g.lineWidth = 2;
    for (const s of [passage.from, passage.to]) {
      const x = timeToX(s, view.times, w);
      g.strokeRect(x, -2, 0, h + 4);
    }
    g.lineWidth = 1;
  }
  const x = timeToX(live.position, view.times, w);
  g.strokeStyle = colour("stand-out");
  g.beginPath();
  g.moveTo(x, 0);
  g.lineTo(x, h);
  g.stroke();
});

/** The marked spot, and the moments that are like it. */
function drawAlike(g: CanvasRenderingContext2D, w: number, h: number): void {
  const spot = marking.value ?? alike.spot;
  if (!spot) return;
  g.strokeStyle = colour("stand-out");
  const [y0, y1] = [frequencyToY(spot.to_hz, view.frequencies, h), frequencyToY(spot.from_hz, view.frequencies, h)];
  const frame = (from: number, to: number) => {
    const [a, b] = [timeToX(from, view.times, w), timeToX(to, view.times, w)];
    g.strokeRect(Math.round(a) - 0.5, Math.round(y0) + 0.5, Math.max(3, b - a), Math.max(3, y1 - y0));
  };
  if (marking.value) frame(spot.from_s, spot.to_s);
  else alike.kept.forEach((m) => frame(m.from_s, m.to_s));
}

/** Shift and drag marks a spot: more like it is looked for. A press without a drag seeks. */
function press(event: PointerEvent): void {
  const at = (x: number, y: number) => ({ s: xToTime(x, view.times, width.value), hz: yToFrequency(y, view.frequencies, height.value) });
  const [x0, y0] = [event.offsetX, event.offsetY];
  if (!event.shiftKey) return live.seek(xToTime(x0, view.times, width.value));
  const first = at(x0, y0);
  beginDrag(event, {
    move: (_e, dx, dy) => {
      const last = at(x0 + dx, y0 + dy);
      const [from_s, to_s] = [Math.min(first.s, last.s), Math.max(first.s, last.s)];
      const [from_hz, to_hz] = [Math.min(first.hz, last.hz), Math.max(first.hz, last.hz)];
      marking.value = { from_s: Math.max(0, from_s), to_s, from_hz: Math.max(20, from_hz), to_hz: Math.min(22_000, Math.max(to_hz, from_hz * 1.03)) };
    },
    end: () => {
      const spot = marking.value;
      marking.value = null;
      if (spot && spot.to_s - spot.from_s >= 0.02) void alike.find(spot);
    },
  });
}

/** Where and how much the chosen dynamic move acted: a band at its place, the deeper the darker. */
function drawMoving(g: CanvasRenderingContext2D, w: number, h: number): void {
  const move = bench.chosenMove;
  if (!levels.levels || !move || levels.move !== move.id) return;
  const { times_s: times, gain_db: gains } = levels.levels;
  const middle = frequencyToY(placeOf(move), view.frequencies, h);
  const step = times.length > 1 ? (times[1] as number) - (times[0] as number) : 0.1;
  const range = Math.abs(move.range_db ?? 0) || 1;
  g.fillStyle = colour("treat");
  times.forEach((t, i) => {
    const share = Math.min(1, Math.abs(gains[i] as number) / range);
    if (share < 0.02) return;
    const x = timeToX(t, view.times, w);
    g.globalAlpha = 0.2 + 0.8 * share;
    g.fillRect(x, middle - 5 * share - 1, Math.max(1, timeToX(t + step, view.times, w) - x), 10 * share + 2);
  });
  g.globalAlpha = 1;
}

/** What the chosen adaptive move took, wherever it did: the deeper the darker. */
function drawCuts(g: CanvasRenderingContext2D, w: number, h: number): void {
  const seen = cuts.picture;
  if (!seen || seen.times_s.length < 2 || seen.hz.length < 2) return;
  const deepest = Math.max(1, -(bench.chosenMove?.most_db ?? -6));
  const half = Math.sqrt((seen.hz[1] as number) / (seen.hz[0] as number));
  const step = (seen.times_s[1] as number) - (seen.times_s[0] as number);
  const edges = seen.hz.map((hz) => [frequencyToY(hz * half, view.frequencies, h), frequencyToY(hz / half, view.frequencies, h)] as const);
  g.fillStyle = colour("treat");
  seen.times_s.forEach((t, column) => {
    const [x0, x1] = [timeToX(t, view.times, w), timeToX(t + step, view.times, w)];
    if (x1 < 0 || x0 > w) return;
    edges.forEach(([top, bottom], row) => {
      const share = seen.at(column, row) / deepest;
      if (share < 0.05) return;
      g.globalAlpha = Math.min(1, 0.15 + 0.85 * share);
      g.fillRect(x0, top, Math.max(1, x1 - x0), Math.max(1, bottom - top));
    });
  });
  g.globalAlpha = 1;
}

/** Where and when: a tongue at the left edge for each finding; the chosen one framed wherever it stands out. */
function drawFindings(g: CanvasRenderingContext2D, w: number, h: number): void {
  g.fillStyle = g.strokeStyle = colour("stand-out");
  for (const finding of findings.open) {
    const { frequency_hz: hz, bandwidth_oct: octaves, moments, evidence } = finding.document;
    const middle = frequencyToY(hz, view.frequencies, h);
    const half = Math.max(2, middle - frequencyToY(hz * 2 ** (octaves / 2), view.frequencies, h));
    const chosen = finding.id === findings.chosenId;
    g.beginPath();
    g.moveTo(0, middle - half);
    g.lineTo(chosen ? 14 : 9, middle);
    g.lineTo(0, middle + half);
    g.fill();
    if (!chosen) continue;
    const frame = (from: number, to: number) => {
      const [a, b] = [timeToX(from, view.times, w), timeToX(to, view.times, w)];
      if (b < 0 || a > w) return;
      g.strokeRect(Math.round(a) - 0.5, Math.round(middle - half - 2) + 0.5, Math.max(3, b - a), 2 * half + 4);
    };
    if (moments.length) moments.forEach((m) => frame(m[0] ?? 0, m[1] ?? 0));
    else for (const [a, b] of stretches(evidence?.times_s ?? [], evidence?.excess_db ?? [])) frame(a, b);
  }
}

/** Stretches of time in which the excess stays at 3 dB or more. */
function stretches(times: readonly number[], excess: readonly number[]): [number, number][] {
  const out: [number, number][] = [];
  const step = times.length > 1 ? ((times.at(-1) as number) - (times[0] as number)) / (times.length - 1) : 0.1;
  times.forEach((t, i) => {
    if ((excess[i] as number) < 3) return;
    const last = out.at(-1);
    if (last && t - last[1] <= 1.6 * step) last[1] = t + step / 2;
    else out.push([t - step / 2, t + step / 2]);
  });
  return out;
}

function sightOf(map: MapInfo, width: number): Sight {
  const level = mapLevel(map.column_s, view.times, width * devicePixelRatio, map.levels);
  const column = map.column_s * 2 ** level;
  const last = Math.ceil(map.columns / 2 ** level / map.tile_columns) - 1;
  const [first, end] = [view.times.from, view.times.to].map((s) => Math.floor(s / column / map.tile_columns)) as [number, number];
  const row = (hz: number) => Math.log2(hz / map.lowest_hz) * map.rows_per_octave;
  return {
    level,
    tiles: Array.from({ length: Math.max(0, Math.min(last, end) - Math.max(0, first) + 1) }, (_, i) => Math.max(0, first) + i),
    columns: [Math.floor(view.times.from / column), Math.ceil(view.times.to / column)],
    rows: [Math.floor(row(view.frequencies.low)), Math.ceil(row(view.frequencies.high))],
  };
}

function drawMap(g: CanvasRenderingContext2D, w: number, h: number, map: MapInfo, of: Shown): void {
  const sight = sightOf(map, w);
  const seconds = map.column_s * 2 ** sight.level;
  const high = map.lowest_hz * 2 ** (map.rows / map.rows_per_octave);
  const y0 = frequencyToY(high, view.frequencies, h);
  const y1 = frequencyToY(map.lowest_hz, view.frequencies, h);
  g.imageSmoothingEnabled = false;
  tiles.pictures(of, sight, map, theme.value).forEach((tile, index) => {
    // a column is drawn around its centre
    const x0 = timeToX((index * map.tile_columns - 0.5) * seconds, view.times, w);
    const x1 = timeToX((index * map.tile_columns - 0.5 + tile.columns) * seconds, view.times, w);
    g.drawImage(tile.picture, x0, y0, x1 - x0, y1 - y0);
  });
}

watch(() => [bench.trackId, bench.arrives], tiles.forget);
watch([() => findings.open, () => findings.chosenId, info, shown, () => levels.levels, () => cuts.picture, () => bench.chosenMove, marking, () => alike.kept], redraw);
watch([() => view.times, () => view.frequencies, () => live.position, () => view.passage], redraw);

function hover(event: PointerEvent): void {
  probe.moveLine(
    yToFrequency(event.offsetY, view.frequencies, height.value),
    xToTime(event.offsetX, view.times, width.value),
    true,
  );
}

function wheel(event: WheelEvent): void {
  const end = song.duration;
  if (event.shiftKey || Math.abs(event.deltaX) > Math.abs(event.deltaY)) {
    const by = (event.deltaX || event.deltaY) > 0 ? 0.1 : -0.1;
    view.times = panTime(view.times, by * (view.times.to - view.times.from), end);
  } else {
    view.times = zoomTime(view.times, xToTime(event.offsetX, view.times, width.value), event.deltaY < 0 ? 1.25 : 0.8, end);
  }
}
</script>

<template>
  <canvas
    ref="canvas" class="map" role="img" :aria-label="`Time map of ${bench.track?.name ?? 'the track'}, ${view.mapTreated ? 'treated' : 'untreated'}`"
    data-test="map" @pointermove="hover" @pointerleave="probe.moveLine(null)" @wheel.prevent="wheel"
    @pointerdown="press"
  />
</template>

<style scoped>
.map { width: 100%; height: 100%; display: block; border: 1px solid var(--line); cursor: crosshair; }
</style>
