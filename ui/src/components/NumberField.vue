<script setup lang="ts">
/** A number that can be typed, dragged (up and down on its label) and nudged (arrow keys). */
import { computed, ref } from "vue";
import { useDrag } from "../lib/drag";
import { complain } from "../lib/complain";
import { EXAMPLES, type Holds, readEntry } from "../lib/entry";

const props = defineProps<{
  label: string;
  unit?: string;
  modelValue: number;
  min: number;
  max: number;
  /** One nudge: added, or for `ratio` the factor by which the value grows. */
  step: number;
  ratio?: boolean;
  digits?: number;
  compact?: boolean;
  /** The label is said, not shown: what stands beside it tells what it is. */
  bare?: boolean;
}>();

const emit = defineEmits<{
  /** While dragging: heard at once, not saved. */
  preview: [value: number];
  /** The value to keep. */
  change: [value: number];
  /** Enter was pressed, after the value was kept. */
  enter: [];
  /** Escape was pressed while nothing was being typed. */
  escape: [];
}>();

const beginDrag = useDrag();
const typed = ref<string | null>(null);
const moving = ref<number | null>(null);

const value = computed(() => moving.value ?? props.modelValue);
const shown = computed(() => typed.value ?? value.value.toFixed(props.digits ?? 1).replace("-", "\u2212"));

const HOLDS: Record<string, Holds> = { Hz: "hz", oct: "octaves", dB: "db" };
const holds = computed<Holds>(() => (props.label === "Q" ? "q" : (HOLDS[props.unit ?? ""] ?? "number")));

const clamp = (v: number) => Math.min(props.max, Math.max(props.min, v));
const moved = (v: number, steps: number) => clamp(props.ratio ? v * props.step ** steps : v + props.step * steps);

function nudge(steps: number): void {
  typed.value = null;
  emit("change", moved(props.modelValue, steps));
}

function finish(event: Event): void {
  if (typed.value === null) return;
  const said = typed.value;
  const number = readEntry(said, holds.value);
  typed.value = null;
  (event.target as HTMLInputElement).value = shown.value;
  if (number === null) complain(`“${said}” can't be read as ${props.label.toLowerCase()}. Write it like ${EXAMPLES[holds.value]}.`);
  else if (number !== props.modelValue) emit("change", clamp(number));
}

function keys(event: KeyboardEvent): void {
  const fine = event.shiftKey ? 0.1 : 1;
  if (event.key === "ArrowUp") nudge(fine);
  else if (event.key === "ArrowDown") nudge(-fine);
  else if (event.key === "PageUp") nudge(10);
  else if (event.key === "PageDown") nudge(-10);
  else if (event.key === "Enter") {
    finish(event);
    emit("enter");
  } else if (event.key === "Escape") {
    if (typed.value === null) emit("escape");
    typed.value = null;
  } else return;
  event.preventDefault();
  event.stopPropagation();
}

function drag(event: PointerEvent): void {
  const from = props.modelValue;
  beginDrag(event, {
    move: (e, _dx, dy) => {
      moving.value = moved(from, (-dy / 4) * (e.shiftKey ? 0.1 : 1));
      emit("preview", moving.value);
    },
    end: () => {
      const result = moving.value;
      moving.value = null;
      if (result !== null && result !== from) emit("change", result);
    },
  });
}
</script>

<template>
  <div class="number" :class="{ compact, bare }">
    <span v-if="!bare" class="label" aria-hidden="true" title="drag up or down" @pointerdown="drag">{{ label }}</span>
    <span class="box">
      <input
        class="figure" role="spinbutton" autocomplete="off" :aria-label="unit ? `${label} in ${unit}` : label"
        :aria-valuenow="value" :aria-valuemin="min" :aria-valuemax="max" :value="shown" @keydown="keys"
        @input="typed = ($event.target as HTMLInputElement).value" @change="finish" @blur="finish"
        @focus="($event.target as HTMLInputElement).select()"
      />
      <span v-if="unit" class="unit">{{ unit }}</span>
    </span>
  </div>
</template>

<style scoped>
.number { display: flex; flex-direction: column; min-width: 0; }
.number.compact { flex-direction: row; align-items: baseline; gap: 5px; }
.label { color: var(--soft); font-size: 11px; cursor: ns-resize; touch-action: none; user-select: none; }
.box { display: flex; align-items: baseline; gap: 3px; border-bottom: 1px solid var(--line); }
.box:focus-within { border-color: var(--treat); }
input {
  border: 0; background: transparent; color: var(--ink); font-size: 13px; width: 100%; min-width: 3.4em; padding: 1px 0;
}
.bare input { min-width: 2.6em; width: 3em; font-size: 11.5px; text-align: right; }
.compact input { width: 3.6em; text-align: right; }
.unit { color: var(--soft); font-size: 11px; }
</style>
