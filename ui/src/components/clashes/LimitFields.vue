<script setup lang="ts">
/** How deep, and for one clash: always or only while the other sounds. */
import { useClashes } from "../../stores/clashes";
import NumberField from "../NumberField.vue";

const clashes = useClashes();
const WHEN = [
  { keyed: null, label: "best", says: "whichever frees more for what it takes" },
  { keyed: true, label: "keyed", says: "only while the other one sounds" },
  { keyed: false, label: "static", says: "all the time" },
] as const;
</script>

<template>
  <div class="limits">
    <NumberField label="At most" unit="dB" :model-value="clashes.mostDb" :min="0.5" :max="12" :step="0.5" compact @change="clashes.mostDb = $event" />
    <NumberField
      v-if="clashes.tab === 'free'" label="Moves" :model-value="clashes.mostMoves" :min="1" :max="8" :step="1" :digits="0" compact
      @change="clashes.mostMoves = Math.round($event)"
    />
    <span v-else role="group" aria-label="When it acts" class="when">
      <button v-for="w in WHEN" :key="w.label" type="button" class="plain small" :aria-pressed="clashes.keyed === w.keyed" :title="w.says" @click="clashes.keyed = w.keyed">{{ w.label }}</button>
    </span>
  </div>
</template>

<style scoped>
.limits { display: flex; gap: 10px; align-items: end; }
.limits > :first-child { width: 118px; white-space: nowrap; }
.when { display: flex; gap: 2px; margin-left: auto; }
</style>
