<script setup lang="ts">
/** A fader that lies: dragged along its scale, with the level behind it on the same scale. Twice pressed: 0 dB. */
import { useThrottleFn } from "@vueuse/core";
import { computed, ref } from "vue";
import { useDrag } from "../../lib/drag";
import { FADER_MARKS, HIGHEST_FADER, LOWEST_FADER, faderAt, faderShare } from "../../lib/faders";
import NumberField from "../NumberField.vue";

const props = defineProps<{ name: string; db: number; peak: number }>();
const emit = defineEmits<{ change: [db: number] }>();

/** While it is dragged it is heard a few times a second; all of one drag is one step to undo. */
const EVERY_MS = 120;
const FINE = 0.1;
const beginDrag = useDrag();
const groove = ref<HTMLElement | null>(null);
const moving = ref<number | null>(null);
const shown = computed(() => moving.value ?? props.db);
const percent = (share: number) => `${100 * share}%`;
const rounded = (db: number) => Number(Math.min(HIGHEST_FADER, Math.max(LOWEST_FADER, db)).toFixed(1));
const saveNow = (db: number) => db !== props.db && emit("change", db);
const saveSoon = useThrottleFn(saveNow, EVERY_MS);

function drag(event: PointerEvent): void {
  const width = groove.value?.clientWidth ?? 1;
  const start = faderShare(props.db);
  beginDrag(event, {
    move: (e, dx) => {
      moving.value = rounded(faderAt(start + (dx / width) * (e.shiftKey ? FINE : 1)));
      void saveSoon(moving.value);
    },
    end: () => {
      if (moving.value !== null) saveNow(moving.value);
      moving.value = null;
    },
  });
}

function keys(event: KeyboardEvent): void {
  const step = event.shiftKey ? 0.1 : 0.5;
  const by = { ArrowRight: step, ArrowUp: step, ArrowLeft: -step, ArrowDown: -step, PageUp: 6, PageDown: -6 }[event.key];
  if (event.key === "Home") emit("change", 0);
  else if (by !== undefined) emit("change", rounded(props.db + by));
  else return;
  event.preventDefault();
  event.stopPropagation();
}
</script>

<template>
  <div class="fader">
    <div ref="groove" class="groove" @pointerdown="drag" @dblclick="emit('change', 0)">
      <i class="level" :class="{ over: peak > -0.1 }" :style="{ width: percent(faderShare(peak)) }" />
      <i v-for="mark in FADER_MARKS" :key="mark" class="mark" :class="{ zero: mark === 0 }" :style="{ left: percent(faderShare(mark)) }" />
      <span
        class="handle" role="slider" tabindex="0" :aria-label="`Fader of ${name}`" :aria-valuenow="shown" :aria-valuemin="LOWEST_FADER" :aria-valuemax="HIGHEST_FADER"
        :aria-valuetext="`${shown} dB`" :style="{ left: percent(faderShare(shown)) }" title="drag; Shift for fine, twice for 0 dB" @keydown="keys"
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
