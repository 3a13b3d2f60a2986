<script setup lang="ts">
/** The line of the pointer through all panels, with the width of the probe and its frequency on the ruler. */
import { computed } from "vue";
import { frequencyToY } from "../../../lib/axis";
import { writeHz } from "../../../lib/notes";
import { useProbe } from "../../../stores/probe";
import { useView } from "../../../stores/view";

const props = defineProps<{ height: number }>();
const view = useView();
const probe = useProbe();

const y = computed(() => (probe.line === null ? null : frequencyToY(probe.line, view.frequencies, props.height)));
/** The other bands of a set, as far as they are in sight. */
const others = computed(() => probe.bands.slice(1).map((hz) => frequencyToY(hz, view.frequencies, props.height)).filter((at) => at >= 0 && at <= props.height));
const half = computed(() => {
  const octave = props.height / Math.log2(view.frequencies.high / view.frequencies.low);
  return (probe.values.octaves * octave) / 2;
});
</script>

<template>
  <div v-if="others.length" class="overlay" data-test="others">
    <template v-for="(at, i) in others" :key="i">
      <div class="band" :class="{ on: probe.on }" :style="{ top: `${at - half}px`, height: `${2 * half}px` }" />
      <div class="line faint" :style="{ top: `${at}px` }" />
    </template>
  </div>
  <div v-if="y !== null && y >= 0 && y <= height" class="overlay">
    <div class="band" :class="{ on: probe.on }" :style="{ top: `${y - half}px`, height: `${2 * half}px` }" />
    <div class="line" :style="{ top: `${y}px` }" />
    <span class="tag figure" :style="{ top: `${Math.min(height - 8, Math.max(8, y))}px` }">{{ writeHz(probe.line ?? 0) }}</span>
  </div>
</template>

<style scoped>
.overlay { position: absolute; inset: 0; pointer-events: none; z-index: 3; overflow: hidden; }
.band { position: absolute; left: 44px; right: 0; background: var(--probe); opacity: 0.13; }
.band.on { opacity: 0.32; }
.line { position: absolute; left: 0; right: 0; border-top: 1px solid var(--probe); }
.faint { border-top-style: dashed; }
.tag {
  position: absolute; left: 0; width: 40px; margin-top: -8px; padding: 0 1px; text-align: center; font-size: 11px; line-height: 15px;
  background: var(--probe-soft); color: var(--probe-text); border: 1px solid var(--probe); border-radius: 2px; white-space: nowrap;
}
</style>
