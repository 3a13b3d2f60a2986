<script setup lang="ts">
/** Pan as a mark between left and right; a bar from the middle shows which way and how far. Twice pressed: the middle. */
import { useThrottleFn } from "@vueuse/core";
import { computed, ref } from "vue";
import { useDrag } from "../../lib/drag";
import NumberField from "../NumberField.vue";

const props = defineProps<{ name: string; pan: number }>();
const emit = defineEmits<{ change: [pan: number] }>();

const EVERY_MS = 120;
const beginDrag = useDrag();
const groove = ref<HTMLElement | null>(null);
const moving = ref<number | null>(null);
const shown = computed(() => moving.value ?? props.pan);
const rounded = (pan: number) => Number(Math.min(1, Math.max(-1, pan)).toFixed(2));
const saveNow = (pan: number) => pan !== props.pan && emit("change", pan);
const saveSoon = useThrottleFn(saveNow, EVERY_MS);
const bar = computed(() => ({ left: `${50 + 50 * Math.min(0, shown.value)}%`, width: `${50 * Math.abs(shown.value)}%` }));
const text = computed(() => (shown.value === 0 ? "middle" : `${Math.round(100 * Math.abs(shown.value))} % ${shown.value < 0 ? "left" : "right"}`));

function drag(event: PointerEvent): void {
  const width = groove.value?.clientWidth ?? 1;
  const start = props.pan;
  beginDrag(event, {
    move: (e, dx) => {
      moving.value = rounded(start + ((2 * dx) / width) * (e.shiftKey ? 0.1 : 1));
      void saveSoon(moving.value);
    },
    end: () => {
      if (moving.value !== null) saveNow(moving.value);
      moving.value = null;
    },
  });
}

function keys(event: KeyboardEvent): void {
  const step = event.shiftKey ? 0.01 : 0.05;
  const by = { ArrowRight: step, ArrowUp: step, ArrowLeft: -step, ArrowDown: -step }[event.key];
  if (event.key === "Home") emit("change", 0);
  else if (by !== undefined) emit("change", rounded(props.pan + by));
  else return;
  event.preventDefault();
  event.stopPropagation();
}
</script>

<template>
  <div class="pan">
    <div ref="groove" class="groove" @pointerdown="drag" @dblclick="emit('change', 0)">
      <i class="middle" /><i class="bar" :style="bar" />
      <span
        class="handle" role="slider" tabindex="0" :aria-label="`Pan of ${name}`" :aria-valuenow="Math.round(100 * shown)" aria-valuemin="-100" aria-valuemax="100"
        :aria-valuetext="text" :style="{ left: `${50 + 50 * shown}%` }" :title="`${text}; drag, twice for the middle`" @keydown="keys"
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
