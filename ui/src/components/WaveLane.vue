<script setup lang="ts">
/** The waveform of one track over the whole song; dragging over it sets the passage. */
import { useQuery } from "@tanstack/vue-query";
import { computed, ref, watch } from "vue";
import type { Strip } from "../api/client";
import { cache } from "../data/cache";
import { waveformQuery } from "../data/queries";
import { timeToX, xToTime } from "../lib/axis";
import { colour, usePicture } from "../lib/canvas";
import { useDrag } from "../lib/drag";
import { writeTime } from "../lib/notes";
import { markedFrom } from "../lib/placing";
import { useLive } from "../live/session";
import { useChanges } from "../stores/changes";
import { useSong } from "../stores/song";
import { useView } from "../stores/view";

const props = defineProps<{
  track: Strip;
  /** Draw its loudest sample at full height. */
  normalised?: boolean;
}>();
const POINTS = 1000;
const song = useSong();
const changes = useChanges();
const live = useLive();
const view = useView();
const beginDrag = useDrag();
const canvas = ref<HTMLCanvasElement | null>(null);
const { data: wave } = useQuery(computed(() => waveformQuery(song.id, props.track.id, song.arrives(props.track.id), song.duration, POINTS)), cache);
const selecting = ref<{ from: number; to: number } | null>(null);
const whole = computed(() => ({ from: 0, to: Math.max(0.25, song.duration) }));

const { width, redraw } = usePicture(canvas, (g, w, h) => {
  const passage = selecting.value ?? view.passage;
  if (passage) {
    const [a, b] = [timeToX(passage.from, whole.value, w), timeToX(passage.to, whole.value, w)];
    g.fillStyle = colour("probe-soft");
    g.fillRect(a, 0, b - a, h);
    g.strokeStyle = colour("probe");
    g.strokeRect(a + 0.5, -2, b - a - 1, h + 4);
  }
  g.fillStyle = props.track.mute ? colour("line") : colour("soft");
  const data = wave.value;
  let full = 127;
  if (props.normalised && data) full = data.reduce((most, v) => Math.max(most, Math.abs(v)), 1) * 1.06;
  for (let i = 0; data && i < POINTS; i++) {
    const [low, high] = [(data[2 * i] as number) / full, (data[2 * i + 1] as number) / full];
    g.fillRect((i / POINTS) * w, h / 2 - (high * h) / 2, Math.max(1, w / POINTS), Math.max(1, ((high - low) * h) / 2));
  }
});
watch([() => view.passage, whole, wave, () => props.track.mute], redraw);
// the picture stays while it plays: only this moves
const playhead = computed(() => `translateX(${timeToX(live.position, whole.value, width.value)}px)`);

/** The markers of its file: pressed, from there to the next one is the passage. */
const markers = computed(() => song.trackOf(props.track.id)?.markers ?? []);
const markerAt = (at: number) => `${(100 * at) / whole.value.to}%`;

function mark(index: number): void {
  const { from, to } = markedFrom(markers.value, index, (props.track.frames ?? 0) / (song.song?.sample_rate ?? 48000));
  if (to - from >= 0.1) void changes.setPassage(Number(from.toFixed(3)), Number(to.toFixed(3)));
  else live.seek(from);
}

function select(event: PointerEvent): void {
  const left = (event.currentTarget as HTMLElement).getBoundingClientRect().left;
  const at = (e: PointerEvent) => Math.min(whole.value.to, Math.max(0, xToTime(e.clientX - left, whole.value, width.value)));
  const start = at(event);
  beginDrag(event, {
    move: (e, dx) => {
      if (Math.abs(dx) < 4 && !selecting.value) return;
      selecting.value = { from: Math.min(start, at(e)), to: Math.max(start, at(e)) };
      redraw();
    },
    end: (e) => {
      const chosen = selecting.value;
      selecting.value = null;
      if (!e) return; // the lane has gone
      if (chosen && chosen.to - chosen.from >= 0.1) void changes.setPassage(Number(chosen.from.toFixed(3)), Number(chosen.to.toFixed(3)));
      else live.seek(start);
    },
  });
}
</script>

<template>
  <div class="lane">
    <canvas ref="canvas" role="img" :aria-label="`Waveform of ${track.name}; drag over it to set the passage`" @pointerdown="select" />
    <button
      v-for="(m, i) in markers" :key="i" type="button" class="marker" :style="{ left: markerAt(m.at_s) }" :aria-label="`Passage from marker ${m.label || i + 1}`"
      :title="`${m.label || `marker ${i + 1}`}, ${writeTime(m.at_s)}: press for the passage from here to the next`" @click="mark(i)"
    ><span>{{ m.label || i + 1 }}</span></button>
    <i class="playhead" :style="{ transform: playhead }" />
  </div>
</template>

<style scoped>
.lane { position: relative; width: 100%; height: 100%; overflow: hidden; }
canvas { width: 100%; height: 100%; display: block; cursor: text; touch-action: none; }
.marker { position: absolute; top: 0; bottom: 0; width: 1px; padding: 0; border: 0; background: var(--treat); cursor: pointer; overflow: visible; }
.marker span { position: absolute; top: 0; left: 0; max-width: 90px; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; padding: 0 4px 0 3px; background: var(--treat); color: var(--panel); font: 9.5px/12px var(--sans); }
.playhead { position: absolute; left: 0; top: 0; bottom: 0; width: 1px; background: var(--ink); pointer-events: none; }
</style>
