<script setup lang="ts">
/** How loud the strip is before and behind its moves, while it plays: short-term loudness; peaks in the title. */
import { computed } from "vue";
import { signed } from "../../lib/notes";
import { useLive } from "../../live/session";

const live = useLive();
const levels = computed(() => live.report.levels);
const peaks = computed(() => {
  const l = levels.value;
  if (!l) return "";
  const side = (name: string, s: { peak_db: number; true_peak_db: number; lufs: number }) =>
    `${name}: ${signed(s.lufs, 1)} LUFS over 3 s, peak ${signed(s.peak_db, 1)} dB, true peak ${signed(s.true_peak_db, 1)} dB`;
  return `${side("in", l.in)}\n${side("out", l.out)}`;
});
</script>

<template>
  <span v-if="levels" class="levels figure" data-test="levels" :title="peaks">
    <span class="unit">in</span> {{ signed(levels.in.lufs, 1) }} <span class="unit">out</span> {{ signed(levels.out.lufs, 1) }} <span class="unit">LUFS,</span>
    {{ signed(levels.lu, 1) }} <span class="unit">LU</span>
  </span>
</template>

<style scoped>
.levels { font-size: 11px; white-space: nowrap; }
.unit { font-size: 9.5px; color: var(--soft); }
</style>
