<script setup lang="ts">
/** The ruler of all panels: Hz or notes, and the rungs of the ear. Drag pans, wheel zooms, a press goes from Hz to notes. */
import { ref, watch } from "vue";
import { RUNGS, frequencyTicks, noteTicks, frequencyToY, panFrequency, yToFrequency, zoomFrequency } from "../../lib/axis";
import { colour, usePicture } from "../../lib/canvas";
import { useDrag } from "../../lib/drag";
import { noteOf } from "../../lib/notes";
import { useView } from "../../stores/view";

const view = useView();
const beginDrag = useDrag();
const canvas = ref<HTMLCanvasElement | null>(null);

const { height, redraw } = usePicture(canvas, (g, width, h) => {
  const range = view.frequencies;
  g.strokeStyle = colour("line");
  for (const hz of RUNGS) {
    if (hz <= range.low || hz >= range.high) continue;
    const y = Math.round(frequencyToY(hz, range, h)) + 0.5;
    g.beginPath();
    g.moveTo(width - 5, y);
    g.lineTo(width, y);
    g.stroke();
  }
  g.font = `11px ${colour("mono")}`;
  g.fillStyle = colour("ink");
  g.strokeStyle = colour("soft");
  g.textAlign = "right";
  g.textBaseline = "middle";
  for (const hz of view.notes ? noteTicks(range) : frequencyTicks(range)) {
    const y = frequencyToY(hz, range, h);
    if (y < 6 || y > h - 6) continue;
    const text = view.notes ? noteOf(hz).name : hz >= 1000 ? `${Number((hz / 1000).toFixed(2))}k` : `${Number(hz.toFixed(1))}`;
    g.fillText(text, width - 12, y);
    g.beginPath();
    g.moveTo(width - 9, Math.round(y) + 0.5);
    g.lineTo(width, Math.round(y) + 0.5);
    g.stroke();
  }
});

watch([() => view.frequencies, () => view.notes], redraw);

function wheel(event: WheelEvent): void {
  const hz = yToFrequency(event.offsetY, view.frequencies, height.value);
  view.frequencies = zoomFrequency(view.frequencies, hz, event.deltaY < 0 ? 1.25 : 0.8);
}

function drag(event: PointerEvent): void {
  const start = view.frequencies;
  const octaves = Math.log2(start.high / start.low);
  let dragged = false;
  beginDrag(event, {
    end: (e) => {
      if (e && !dragged) view.notes = !view.notes;
    },
    move: (_e, _dx, dy) => {
      dragged ||= Math.abs(dy) > 3;
      view.frequencies = panFrequency(start, (dy / height.value) * octaves);
    },
  });
}
</script>

<template>
  <canvas ref="canvas" class="ruler" role="img" :aria-label="`Frequency ruler ${view.notes ? 'in notes' : 'in Hz'}, with auditory bands`" title="press: notes or Hz; drag to move, wheel to zoom" @wheel.prevent="wheel" @pointerdown="drag" />
</template>

<style scoped>
.ruler { width: 100%; height: 100%; display: block; cursor: ns-resize; touch-action: none; }
</style>
