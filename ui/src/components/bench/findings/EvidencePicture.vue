<script setup lang="ts">
/** The evidence of a finding as small pictures: when it stands out, how it rings, how it follows the level. */
import { computed, ref, watch } from "vue";
import type { Finding } from "../../../api/client";
import { colour, usePicture } from "../../../lib/canvas";
import { writeTime } from "../../../lib/notes";

const props = defineProps<{ finding: Finding }>();
const canvas = ref<HTMLCanvasElement | null>(null);
const GAP = 8;
const TOP = 13;

interface Box {
  x: number;
  y: number;
  w: number;
  h: number;
}

const evidence = computed(() => props.finding.document.evidence);

function frame(g: CanvasRenderingContext2D, b: Box, title: string, low: string, high: string): void {
  g.fillStyle = colour("soft");
  g.font = `10px ${colour("sans")}`;
  g.textAlign = "left";
  g.fillText(title, b.x, b.y - 3);
  g.strokeStyle = colour("line");
  g.strokeRect(b.x + 0.5, b.y + 0.5, b.w - 1, b.h - 1);
  g.font = `9px ${colour("mono")}`;
  g.fillText(low, b.x + 2, b.y + b.h + 9);
  g.textAlign = "right";
  g.fillText(high, b.x + b.w, b.y + b.h + 9);
}

/** Excess over time: a bar down to zero; 3 dB is where it counts as standing out. */
function overTime(g: CanvasRenderingContext2D, b: Box, times: number[], excess: number[]): void {
  const [from, to] = [times[0] ?? 0, times.at(-1) ?? 1];
  const most = Math.max(12, ...excess);
  frame(g, b, "dB over, in time", writeTime(from, 0), writeTime(to, 0));
  const step = Math.max(1, b.w / times.length);
  times.forEach((t, i) => {
    const over = Math.max(0, excess[i] as number);
    g.fillStyle = colour(over >= 3 ? "stand-out" : "grey");
    const h = (over / most) * (b.h - 2);
    g.fillRect(b.x + ((t - from) / Math.max(0.01, to - from)) * (b.w - step), b.y + b.h - 1 - h, step, h);
  });
}

/** The longest free decay, beside that of a filter of the same width. */
function decay(g: CanvasRenderingContext2D, b: Box, ms: number[], db: number[], own: number): void {
  const end = Math.max(own * 0.5, ms.at(-1) ?? 1);
  frame(g, b, "rings", "0", `${Math.round(end)} ms`);
  const y = (v: number) => b.y + 2 + (Math.min(40, -v) / 40) * (b.h - 4);
  g.setLineDash([2, 2]);
  g.strokeStyle = colour("soft");
  g.beginPath();
  g.moveTo(b.x, y(0));
  const stop = Math.min(end, (own * 40) / 60);
  g.lineTo(b.x + (stop / end) * b.w, y((-60 * stop) / own));
  g.stroke();
  g.setLineDash([]);
  g.strokeStyle = colour("stand-out");
  g.lineWidth = 1.5;
  g.beginPath();
  ms.forEach((t, i) => g.lineTo(b.x + (t / end) * b.w, y(db[i] as number)));
  g.stroke();
  g.lineWidth = 1;
}

/** Excess against the track's level, a dot a frame. */
function byLevel(g: CanvasRenderingContext2D, b: Box, track: number[], excess: number[]): void {
  const top = Math.max(...track);
  const most = Math.max(12, ...excess);
  frame(g, b, "by level", "soft", "loud");
  g.fillStyle = colour("stand-out");
  track.forEach((level, i) => {
    const x = b.x + b.w * (1 - (top - level) / 36);
    if (x < b.x + 1) return;
    const y = b.y + b.h - 2 - (Math.max(0, excess[i] as number) / most) * (b.h - 4);
    g.fillRect(x - 2, y, 1.5, 1.5);
  });
}

const { redraw } = usePicture(canvas, (g, w, h) => {
  const e = evidence.value;
  if (!e || !e.times_s.length) return;
  const small = Math.min(74, w / 4);
  const rings = e.decay_ms.length > 1;
  const wide = w - (small + GAP) * (rings ? 2 : 1);
  const box = (x: number, width: number): Box => ({ x, y: TOP, w: width, h: h - TOP - 11 });
  overTime(g, box(0, wide), e.times_s, e.excess_db);
  byLevel(g, box(wide + GAP, small), e.track_db, e.excess_db);
  if (rings) decay(g, box(wide + small + 2 * GAP, small), e.decay_ms, e.decay_db, e.own_ring_ms);
});
watch(() => props.finding, redraw);
</script>

<template>
  <canvas ref="canvas" class="evidence" role="img" :aria-label="`Evidence: ${finding.document.kind} at ${Math.round(finding.document.frequency_hz)} Hz over time, by level and in its decay`" />
</template>

<style scoped>
.evidence { width: 100%; height: 74px; display: block; }
</style>
