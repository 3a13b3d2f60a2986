<script setup lang="ts">
/** The time map: level over time and frequency, from tiles that the server measured. */
import { onBeforeUnmount, ref, shallowRef, watch } from "vue";
import { type MapInfo, api, ask, bytes } from "../../api/client";
import { frequencyToY, mapLevel, panTime, timeToX, xToTime, yToFrequency, zoomTime } from "../../lib/axis";
import { colour, rgb, usePicture } from "../../lib/canvas";
import { useTheme } from "../../lib/theme";
import { useLive } from "../../live/session";
import { useBench } from "../../stores/bench";
import { useFindings } from "../../stores/findings";
import { complain, useSong } from "../../stores/song";

const SHOWN_DB = 66;

interface Tile {
  picture: HTMLCanvasElement;
  columns: number;
}

const bench = useBench();
const song = useSong();
const live = useLive();
const findings = useFindings();
const canvas = ref<HTMLCanvasElement | null>(null);
const info = shallowRef<MapInfo | null>(null);
const tiles = new Map<string, Tile | "coming" | "failed">();
/** A tile that could not be had is asked for again after so long, not at every frame. */
const AGAIN_MS = 5000;
let top = 200;
let epoch = new AbortController();

const movesKey = () => (bench.mapTreated ? JSON.stringify(bench.track?.moves.filter((m) => m.enabled)) : "");

function paintTile(data: Uint8Array, rows: number): Tile {
  const columns = Math.max(1, data.length / rows);
  const picture = document.createElement("canvas");
  picture.width = columns;
  picture.height = rows;
  const g = picture.getContext("2d") as CanvasRenderingContext2D;
  const image = g.createImageData(columns, rows);
  const [paper, ink] = [rgb(colour("panel")), rgb(colour("ink"))];
  const step = info.value?.step_db ?? 0.5;
  const ramp = Array.from({ length: 256 }, (_, v) => {
    const dark = Math.min(1, Math.max(0, 1 - ((top - v) * step) / SHOWN_DB)) ** 1.25;
    return paper.map((p, i) => Math.round(p + ((ink[i] as number) - p) * dark)) as [number, number, number];
  });
  for (let c = 0; c < columns; c++) {
    for (let r = 0; r < rows; r++) {
      const [red, green, blue] = ramp[data[c * rows + r] as number] as [number, number, number];
      const at = ((rows - 1 - r) * columns + c) * 4;
      image.data.set([red, green, blue, 255], at);
    }
  }
  g.putImageData(image, 0, 0);
  return { picture, columns };
}

async function fetchTile(level: number, index: number, moves: string): Promise<void> {
  const key = `${level}/${index}/${moves}`;
  if (tiles.has(key) || !info.value || !bench.trackId) return;
  tiles.set(key, "coming");
  const { signal } = epoch;
  const revision = moves ? `?treated=true&rev=${song.song?.revision}` : "";
  try {
    const data = await bytes(`/api/songs/${song.id}/tracks/${bench.trackId}/map/${level}/${index}${revision}`, signal);
    if (signal.aborted) return;
    tiles.set(key, paintTile(new Uint8Array(data), info.value.rows));
    redraw();
  } catch (problem) {
    tiles.delete(key);
    if (signal.aborted) return;
    tiles.set(key, "failed");
    complain(problem);
    window.setTimeout(() => {
      if (tiles.get(key) === "failed") tiles.delete(key);
      redraw();
    }, AGAIN_MS);
  }
}

async function load(): Promise<void> {
  epoch.abort();
  epoch = new AbortController();
  tiles.clear();
  info.value = null;
  const track = bench.trackId;
  if (!track) return;
  const { signal } = epoch;
  try {
    const found = await ask(
      api.GET("/api/songs/{song_id}/tracks/{track_id}/map", { params: { path: { song_id: song.id, track_id: track } } }),
    );
    // the coarsest level tells how loud the track gets: there the ramp ends
    const coarse = new Uint8Array(await bytes(`/api/songs/${song.id}/tracks/${track}/map/${found.levels - 1}/0`, signal));
    if (signal.aborted) return;
    top = coarse.reduce((a, b) => Math.max(a, b), 80) + 8;
    info.value = found;
    redraw();
  } catch (problem) {
    if (!signal.aborted) complain(problem);
  }
}

const { width, height, redraw } = usePicture(canvas, (g, w, h) => {
  g.fillStyle = colour("panel");
  g.fillRect(0, 0, w, h);
  const map = info.value;
  if (map) drawMap(g, w, h, map);
  drawFindings(g, w, h);
  const passage = bench.passage;
  if (passage && bench.mapWhole) {
    g.strokeStyle = colour("probe");
    g.lineWidth = 2;
    for (const s of [passage.from, passage.to]) {
      const x = timeToX(s, bench.times, w);
      g.strokeRect(x, -2, 0, h + 4);
    }
    g.lineWidth = 1;
  }
  const x = timeToX(live.position, bench.times, w);
  g.strokeStyle = colour("stand-out");
  g.beginPath();
  g.moveTo(x, 0);
  g.lineTo(x, h);
  g.stroke();
});

/** Where and when: a tongue at the left edge for each finding; the chosen one framed wherever it stands out. */
function drawFindings(g: CanvasRenderingContext2D, w: number, h: number): void {
  g.fillStyle = g.strokeStyle = colour("stand-out");
  for (const finding of findings.open) {
    const { frequency_hz: hz, bandwidth_oct: octaves, moments, evidence } = finding.document;
    const middle = frequencyToY(hz, bench.frequencies, h);
    const half = Math.max(2, middle - frequencyToY(hz * 2 ** (octaves / 2), bench.frequencies, h));
    const chosen = finding.id === findings.chosenId;
    g.beginPath();
    g.moveTo(0, middle - half);
    g.lineTo(chosen ? 14 : 9, middle);
    g.lineTo(0, middle + half);
    g.fill();
    if (!chosen) continue;
    const frame = (from: number, to: number) => {
      const [a, b] = [timeToX(from, bench.times, w), timeToX(to, bench.times, w)];
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

function drawMap(g: CanvasRenderingContext2D, w: number, h: number, map: MapInfo): void {
  const level = mapLevel(map.column_s, bench.times, w * devicePixelRatio, map.levels);
  const seconds = map.column_s * 2 ** level;
  const perTile = seconds * map.tile_columns;
  const last = Math.ceil(map.columns / 2 ** level / map.tile_columns) - 1;
  const high = map.lowest_hz * 2 ** (map.rows / map.rows_per_octave);
  const y0 = frequencyToY(high, bench.frequencies, h);
  const y1 = frequencyToY(map.lowest_hz, bench.frequencies, h);
  const moves = movesKey();
  g.imageSmoothingEnabled = false;
  for (let i = Math.max(0, Math.floor(bench.times.from / perTile)); i <= Math.min(last, bench.times.to / perTile); i++) {
    const tile = tiles.get(`${level}/${i}/${moves}`);
    if (!tile) void fetchTile(level, i, moves);
    // a column is drawn around its centre
    const x0 = timeToX(i * perTile - seconds / 2, bench.times, w);
    const ready = typeof tile === "object" ? tile : null;
    if (ready) {
      const x1 = timeToX(i * perTile - seconds / 2 + ready.columns * seconds, bench.times, w);
      g.drawImage(ready.picture, x0, y0, x1 - x0, y1 - y0);
    }
  }
}

watch([() => findings.open, () => findings.chosenId], redraw);
watch([() => bench.trackId, useTheme()], () => void load(), { immediate: true });
watch(
  [() => bench.times, () => bench.frequencies, () => live.position, () => bench.passage, () => bench.mapTreated, () => bench.track?.moves],
  redraw,
);
onBeforeUnmount(() => epoch.abort());

function hover(event: PointerEvent): void {
  bench.moveLine(
    yToFrequency(event.offsetY, bench.frequencies, height.value),
    xToTime(event.offsetX, bench.times, width.value),
    true,
  );
}

function wheel(event: WheelEvent): void {
  const end = song.song?.duration_s ?? 1;
  if (event.shiftKey || Math.abs(event.deltaX) > Math.abs(event.deltaY)) {
    const by = (event.deltaX || event.deltaY) > 0 ? 0.1 : -0.1;
    bench.times = panTime(bench.times, by * (bench.times.to - bench.times.from), end);
  } else {
    bench.times = zoomTime(bench.times, xToTime(event.offsetX, bench.times, width.value), event.deltaY < 0 ? 1.25 : 0.8, end);
  }
}
</script>

<template>
  <canvas
    ref="canvas" class="map" role="img" :aria-label="`Time map of ${bench.track?.name ?? 'the track'}, ${bench.mapTreated ? 'treated' : 'untreated'}`"
    data-test="map" @pointermove="hover" @pointerleave="bench.moveLine(null)" @wheel.prevent="wheel"
    @click="live.seek(xToTime($event.offsetX, bench.times, width))"
  />
</template>

<style scoped>
.map { width: 100%; height: 100%; display: block; border: 1px solid var(--line); cursor: crosshair; }
</style>
