<script setup lang="ts">
/** The profile: long-term level to the right, before and after treatment, with what is playing now. Press to probe. */
import { ref, watch } from "vue";
import { frequencyToY, levelScale, valueAt, yToFrequency } from "../../lib/axis";
import { colour, usePicture } from "../../lib/canvas";
import { useLive } from "../../live/session";
import { useBench } from "../../stores/bench";
import { useFindings } from "../../stores/findings";
import { useView } from "../../stores/view";
import { useProbe } from "../../stores/probe";

const SHOWN_DB = 72;
const bench = useBench();
const live = useLive();
const findings = useFindings();
const view = useView();
const probe = useProbe();
const canvas = ref<HTMLCanvasElement | null>(null);

type Values = ArrayLike<number>;

const { height, redraw } = usePicture(canvas, (g, w, h) => {
  g.fillStyle = colour("panel");
  g.fillRect(0, 0, w, h);
  const p = bench.profile;
  if (!p) return;
  const top = Math.ceil((Math.max(...p.untreated_db, -100) + 3) / 6) * 6;
  const scale = levelScale(top - SHOWN_DB, top, w);
  const x = (db: number) => Math.max(0, scale(db));
  drawScale(g, h, top, x);
  const trace = (grid: Values, values: Values) => {
    g.beginPath();
    for (let i = 0; i < Math.min(grid.length, values.length); i++) {
      g.lineTo(x(values[i] as number), frequencyToY(grid[i] as number, view.frequencies, h));
    }
  };
  trace(p.grid_hz, p.untreated_db);
  g.lineTo(0, frequencyToY(p.grid_hz.at(-1) ?? 20000, view.frequencies, h));
  g.lineTo(0, frequencyToY(p.grid_hz[0] ?? 20, view.frequencies, h));
  g.fillStyle = colour("grey");
  g.fill();
  drawFindings(g, h, x, p.grid_hz, p.untreated_db);
  if (live.spectrum && live.state.playing && live.state.focus === bench.trackId) {
    const heard = live.state.signal === "untreated" ? live.spectrum.untreated : live.spectrum.treated;
    trace(live.spectrumGrid, heard);
    g.strokeStyle = colour("soft");
    g.setLineDash([2, 2]);
    g.stroke();
    g.setLineDash([]);
  }
  trace(p.grid_hz, p.treated_db);
  g.strokeStyle = colour("treat");
  g.lineWidth = 1.6;
  g.stroke();
  g.lineWidth = 1;
  if (p.behind_db) {
    trace(p.grid_hz, p.behind_db);
    g.strokeStyle = colour("ink");
    g.setLineDash([5, 3]);
    g.stroke();
    g.setLineDash([]);
  }
  drawNumbers(g, w, h, top, x);
});

/** What stands out, filled: from the level down to what the surroundings suggest. The chosen one is full, others light. */
function drawFindings(g: CanvasRenderingContext2D, h: number, x: (db: number) => number, grid: Values, level: Values): void {
  g.fillStyle = g.strokeStyle = colour("stand-out");
  for (const finding of findings.open) {
    const e = finding.document.evidence;
    if (!e?.grid_hz.length) continue;
    const at = (i: number) => valueAt(grid, level, e.grid_hz[i] as number) ?? -120;
    const over = e.grid_hz.map((_, i) => Math.max(0, (e.level_db[i] as number) - (e.expected_db[i] as number)));
    const y = (i: number) => frequencyToY(e.grid_hz[i] as number, view.frequencies, h);
    g.beginPath();
    over.forEach((_, i) => g.lineTo(x(at(i)), y(i)));
    for (let i = over.length - 1; i >= 0; i--) g.lineTo(x(at(i) - (over[i] as number)), y(i));
    g.closePath();
    g.globalAlpha = finding.id === findings.chosenId ? 0.95 : 0.45;
    g.fill();
    g.globalAlpha = 1;
    if (finding.id === findings.chosenId) g.stroke();
  }
}

function drawNumbers(g: CanvasRenderingContext2D, w: number, h: number, top: number, x: (db: number) => number): void {
  g.font = `10px ${colour("mono")}`;
  g.textAlign = "center";
  g.fillStyle = colour("panel");
  g.fillRect(0, h - 14, w, 14);
  g.fillStyle = colour("soft");
  for (let db = top - 12; db > top - SHOWN_DB; db -= 12) {
    const at = x(db);
    if (at < 14 || at > w - 10) continue;
    g.fillText(`${db}`.replace("-", "\u2212"), at, h - 3);
  }
}

function drawScale(g: CanvasRenderingContext2D, h: number, top: number, x: (db: number) => number): void {
  g.strokeStyle = colour("line");
  for (let db = top - 12; db > top - SHOWN_DB; db -= 12) {
    const at = Math.round(x(db)) + 0.5;
    g.beginPath();
    g.moveTo(at, 0);
    g.lineTo(at, h - 14);
    g.stroke();
  }
}

watch([() => findings.open, () => findings.chosenId], redraw);
watch([() => bench.profile, () => view.frequencies, () => live.spectrum, () => live.state.playing], redraw);

function hover(event: PointerEvent): void {
  probe.moveLine(yToFrequency(event.offsetY, view.frequencies, height.value), null, true);
}

function press(event: PointerEvent): void {
  if (event.button !== 0) return;
  (event.currentTarget as HTMLElement).setPointerCapture(event.pointerId);
  probe.start(yToFrequency(event.offsetY, view.frequencies, height.value));
}

function wheel(event: WheelEvent): void {
  probe.widen(event.deltaY < 0 ? 1.15 : 1 / 1.15);
}
</script>

<template>
  <canvas
    ref="canvas" class="profile" role="img" data-test="profile"
    :aria-label="`Profile of ${bench.track?.name ?? 'the track'}: long-term level in dB per 1/24 octave`"
    @pointermove="hover" @pointerdown="press" @pointerup="probe.release()" @pointercancel="probe.release()"
    @pointerleave="probe.moveLine(null)" @wheel.prevent="wheel"
  />
</template>

<style scoped>
.profile { width: 100%; height: 100%; display: block; border: 1px solid var(--line); cursor: crosshair; touch-action: none; }
</style>
