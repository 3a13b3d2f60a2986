<script setup lang="ts">
/** Frequency, gain and width of a move as numbers to change; what else a move has goes into the slot. */
import { type Move, hasGain, hasOctaves, isDynamic, octavesOfQ, placeOf, qOfOctaves, qualityOf, shapeOf } from "../../../lib/moves";
import NumberField from "../../NumberField.vue";

defineProps<{ move: Move }>();
const emit = defineEmits<{
  /** While dragging: heard at once, not saved. */
  preview: [values: Partial<Move>];
  /** The values to keep. */
  change: [values: Partial<Move>];
  enter: [];
  escape: [];
}>();

const rounded = (value: number, digits: number) => Number(value.toFixed(digits));
const frequency = (hz: number) => ({ frequency_hz: rounded(hz, 2) });
const gain = (db: number) => ({ gain_db: rounded(db, 2) });
const width = (octaves: number) => ({ q: rounded(qOfOctaves(octaves), 4) });
const ends = { onEnter: () => emit("enter"), onEscape: () => emit("escape") };
</script>

<template>
  <NumberField
    label="Frequency" unit="Hz" :model-value="placeOf(move)" :min="10" :max="24000" :step="2 ** (1 / 48)" ratio :digits="1" v-bind="ends"
    @preview="emit('preview', frequency($event))" @change="emit('change', frequency($event))"
  />
  <NumberField
    v-if="hasGain(shapeOf(move)) || isDynamic(move)" :label="isDynamic(move) ? 'Gain at rest' : 'Gain'" unit="dB" :model-value="move.gain_db ?? 0" :min="-30" :max="24" :step="0.5" :digits="1" v-bind="ends"
    @preview="emit('preview', gain($event))" @change="emit('change', gain($event))"
  />
  <slot />
  <NumberField
    v-if="hasOctaves(shapeOf(move))" label="Width" unit="oct" :model-value="octavesOfQ(qualityOf(move))" :min="0.0145" :max="6.7" :step="1.1" ratio :digits="2" v-bind="ends"
    @preview="emit('preview', width($event))" @change="emit('change', width($event))"
  />
</template>
