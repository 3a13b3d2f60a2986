<script setup lang="ts">
/** The level of one or two channels with a scale in dBFS; the highest of the last seconds stays as a mark and a figure. */
import { computed, onScopeDispose, ref, watch } from "vue";
import { levelScale } from "../../lib/axis";

const props = defineProps<{ peaks: readonly number[]; height: number }>();

const LOWEST = -54;
const HOLD_MS = 2000;
const MARKS = [0, -6, -12, -24, -36, -48];

const scale = computed(() => levelScale(LOWEST, 0, props.height));
const heightOf = (db: number) => Math.max(0, Math.min(props.height, scale.value(db)));
const highest = computed(() => Math.max(...props.peaks));
const held = ref(-120);
let timer = 0;

watch(() => [highest.value, props.peaks], () => {
  if (highest.value >= held.value) {
    held.value = highest.value;
    window.clearTimeout(timer);
    timer = window.setTimeout(() => (held.value = highest.value), HOLD_MS);
  }
});
onScopeDispose(() => window.clearTimeout(timer));
const text = computed(() => (held.value <= -119 ? "–" : held.value.toFixed(1).replace("-", "\u2212")));
</script>

<template>
  <div class="meter" role="img" :aria-label="`Peak ${peaks.join(' and ')} dB`">
    <span class="held figure" :class="{ full: held > -0.3 }" title="highest peak of the last 2 s in dBFS">{{ text }}</span>
    <div class="bars" :style="{ height: `${height}px` }">
      <span v-for="(db, side) in peaks" :key="side" class="bar"><i :style="{ height: `${heightOf(db)}px` }" /><b :style="{ bottom: `${heightOf(held)}px` }" /></span>
      <span class="marks figure" aria-hidden="true">
        <span v-for="db in MARKS" :key="db" :style="{ bottom: `${heightOf(db) - 5}px` }">{{ db === 0 ? "0" : `−${-db}` }}</span>
      </span>
    </div>
  </div>
</template>

<style scoped>
.meter { display: flex; flex-direction: column; gap: 2px; align-items: flex-start; }
.held { font-size: 11px; line-height: 13px; min-width: 44px; }
.held.full { color: var(--stand-out); font-weight: 600; }
.bars { display: flex; gap: 2px; position: relative; margin-top: 4px; }
.bar { width: 8px; height: 100%; background: var(--paper); border: 1px solid var(--line); position: relative; overflow: hidden; }
.bar i { position: absolute; bottom: 0; left: 0; right: 0; background: var(--ink); }
.bar b { position: absolute; left: 0; right: 0; height: 1.5px; background: var(--stand-out); }
.marks { position: relative; width: 22px; font-size: 9px; line-height: 10px; color: var(--soft); }
.marks span { position: absolute; left: 3px; }
</style>
