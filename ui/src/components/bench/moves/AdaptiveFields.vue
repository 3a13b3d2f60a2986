<script setup lang="ts">
/** The values of an adaptive move. */
import type { Move } from "../../../lib/moves";
import { useFreezing } from "../../../stores/freezing";
import NumberField from "../../NumberField.vue";

defineProps<{ move: Move }>();
const freezing = useFreezing();
const emit = defineEmits<{ preview: [values: Partial<Move>]; change: [values: Partial<Move>] }>();

interface Field { name: "from_hz" | "to_hz" | "most_db" | "width_oct" | "attack_ms" | "release_ms"; label: string; unit: string; min: number; max: number; step: number; ratio?: boolean; digits: number }
const FIELDS: readonly Field[] = [
  { name: "from_hz", label: "From", unit: "Hz", min: 10, max: 23_000, step: 2 ** (1 / 12), ratio: true, digits: 0 },
  { name: "to_hz", label: "To", unit: "Hz", min: 20, max: 24_000, step: 2 ** (1 / 12), ratio: true, digits: 0 },
  { name: "most_db", label: "Deepest", unit: "dB", min: -36, max: 0, step: 0.5, digits: 1 },
  { name: "width_oct", label: "Narrower than", unit: "oct", min: 0.05, max: 2, step: 1.1, ratio: true, digits: 2 },
  { name: "attack_ms", label: "Attack", unit: "ms", min: 0.1, max: 1000, step: 1.1, ratio: true, digits: 0 },
  { name: "release_ms", label: "Release", unit: "ms", min: 1, max: 5000, step: 1.1, ratio: true, digits: 0 },
];
const said = (field: Field, value: number): Partial<Move> => ({ [field.name]: Number(value.toFixed(field.digits + 1)) });
const share = (percent: number) => ({ share: Number((percent / 100).toFixed(2)) });
</script>

<template>
  <NumberField
    label="Share of what stands out" unit="%" :model-value="100 * (move.share ?? 0.5)" :min="0" :max="100" :step="5" :digits="0"
    @preview="emit('preview', share($event))" @change="emit('change', share($event))"
  />
  <NumberField
    v-for="f in FIELDS" :key="f.name" :label="f.label" :unit="f.unit" :model-value="move[f.name] ?? f.min" :min="f.min" :max="f.max" :step="f.step" :ratio="f.ratio" :digits="f.digits"
    @preview="emit('preview', said(f, $event))" @change="emit('change', said(f, $event))"
  />
  <p class="whole frozen">
    <template v-if="freezing.isFreezing(move.id)">
      <span role="status">Looking for the moves that do most of it … {{ Math.round(100 * (freezing.task?.progress ?? 0)) }} %</span>
      <button type="button" class="plain small" @click="freezing.cancel">Cancel</button>
    </template>
    <button
      v-else type="button" class="plain small" data-test="freeze" :disabled="!move.enabled"
      title="at most six ordinary moves that do most of what it does in the passage, for a sheet or another desk" @click="freezing.freeze(move.id)"
    >Freeze into moves</button>
  </p>
</template>

<style scoped>
.frozen { grid-column: 1 / -1; display: flex; gap: 8px; align-items: baseline; justify-content: space-between; margin: 0; font-size: 11.5px; }
</style>
