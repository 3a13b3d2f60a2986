<script setup lang="ts">
/** Pan as a mark between left and right; a bar from the middle shows which way and how far. Twice pressed: the middle. */
import { computed, useTemplateRef } from "vue";
import NumberField from "../NumberField.vue";
import { useBar } from "./bar";

const props = defineProps<{ name: string; pan: number }>();
const emit = defineEmits<{ change: [pan: number] }>();

const rounded = (pan: number) => Number(Math.min(1, Math.max(-1, pan)).toFixed(2));
const scale = { share: (pan: number) => (pan + 1) / 2, at: (share: number) => 2 * share - 1, rounded, steps: [0.05, 0.01, 0.25], rest: 0 } as const;
const { shown, left, drag, keys, putBack } = useBar(useTemplateRef<HTMLElement>("groove"), () => props.pan, scale, (pan) => emit("change", pan));
const bar = computed(() => ({ left: `${50 + 50 * Math.min(0, shown.value)}%`, width: `${50 * Math.abs(shown.value)}%` }));
const text = computed(() => (shown.value === 0 ? "middle" : `${Math.round(100 * Math.abs(shown.value))} % ${shown.value < 0 ? "left" : "right"}`));
</script>

<template>
  <div class="pan">
    <div ref="groove" class="groove" @pointerdown="drag" @dblclick="putBack">
      <i class="middle" /><i class="bar" :style="bar" />
      <span
        class="handle" role="slider" tabindex="0" :aria-label="`Pan of ${name}`" :aria-valuenow="Math.round(100 * shown)" aria-valuemin="-100" aria-valuemax="100"
        :aria-valuetext="text" :style="{ left }" :title="`${text}; drag, twice for the middle`" @keydown="keys"
      />
    </div>
    <NumberField bare label="Pan" unit="%" :model-value="shown * 100" :min="-100" :max="100" :step="5" :digits="0" @change="emit('change', Number(($event / 100).toFixed(3)))" />
  </div>
</template>

<style scoped>
.pan { display: flex; align-items: center; gap: 6px; }
.groove { position: relative; flex: 1; min-width: 48px; height: 14px; background: var(--paper); border: 1px solid var(--line); cursor: ew-resize; touch-action: none; }
.middle { position: absolute; left: 50%; top: 0; bottom: 0; width: 1px; background: var(--soft); }
.bar { position: absolute; top: 4px; bottom: 4px; background: var(--soft); }
.handle { position: absolute; top: -3px; bottom: -3px; width: 5px; margin-left: -2.5px; background: var(--ink); border-radius: 1px; }
</style>
