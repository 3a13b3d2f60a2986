<script setup lang="ts">
/** A fader that lies: dragged along its scale, with the level behind it on the same scale. Twice pressed: 0 dB. */
import { useTemplateRef } from "vue";
import { FADER_MARKS, HIGHEST_FADER, LOWEST_FADER, faderAt, faderShare } from "../../lib/faders";
import NumberField from "../NumberField.vue";
import { useBar } from "./bar";

const props = defineProps<{ name: string; db: number; peak: number }>();
const emit = defineEmits<{ change: [db: number] }>();

const percent = (share: number) => `${100 * share}%`;
const rounded = (db: number) => Number(Math.min(HIGHEST_FADER, Math.max(LOWEST_FADER, db)).toFixed(1));
const scale = { share: faderShare, at: faderAt, rounded, steps: [0.5, 0.1, 6], rest: 0 } as const;
const { shown, left, drag, keys, putBack } = useBar(useTemplateRef<HTMLElement>("groove"), () => props.db, scale, (db) => emit("change", db));
</script>

<template>
  <div class="fader">
    <div ref="groove" class="groove" @pointerdown="drag" @dblclick="putBack">
      <i class="level" :class="{ over: peak > -0.1 }" :style="{ width: percent(faderShare(peak)) }" />
      <i v-for="mark in FADER_MARKS" :key="mark" class="mark" :class="{ zero: mark === 0 }" :style="{ left: percent(faderShare(mark)) }" />
      <span
        class="handle" role="slider" tabindex="0" :aria-label="`Fader of ${name}`" :aria-valuenow="shown" :aria-valuemin="LOWEST_FADER" :aria-valuemax="HIGHEST_FADER"
        :aria-valuetext="`${shown} dB`" :style="{ left }" title="drag; Shift for fine, twice for 0 dB" @keydown="keys"
      />
    </div>
    <NumberField bare label="Fader" unit="dB" :model-value="shown" :min="LOWEST_FADER" :max="HIGHEST_FADER" :step="0.5" @change="emit('change', Number($event.toFixed(2)))" />
  </div>
</template>

<style scoped>
.fader { display: flex; align-items: center; gap: 8px; }
.groove { position: relative; flex: 1; height: 14px; background: var(--paper); border: 1px solid var(--line); cursor: ew-resize; touch-action: none; min-width: 90px; }
.level { position: absolute; left: 0; top: 3px; bottom: 3px; background: var(--soft); }
.level.over { background: var(--stand-out); }
.mark { position: absolute; top: 9px; bottom: 0; width: 1px; background: var(--soft); opacity: 0.55; }
.mark.zero { top: 0; opacity: 1; }
.handle { position: absolute; top: -4px; bottom: -4px; width: 7px; margin-left: -3.5px; background: var(--ink); border-radius: 1px; cursor: ew-resize; }
</style>
