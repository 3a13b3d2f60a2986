<script setup lang="ts">
/** The line of the pointer through all panels, and what is read on it. */
import { computed } from "vue";
import { frequencyToY, timeToX, valueAt } from "../../lib/axis";
import { probeRingMs } from "../../lib/moves";
import { noteOf, signed, writeDb, writeHz } from "../../lib/notes";
import { useLive } from "../../live/session";
import { useBench } from "../../stores/bench";
import { useFindings } from "../../stores/findings";

const props = defineProps<{ height: number; mapWidth: number; mapLeft: number }>();
const bench = useBench();
const live = useLive();
const findings = useFindings();

const y = computed(() => (bench.line === null ? null : frequencyToY(bench.line, bench.frequencies, props.height)));
const half = computed(() => {
  const octave = props.height / Math.log2(bench.frequencies.high / bench.frequencies.low);
  return (bench.probe.octaves * octave) / 2;
});
const note = computed(() => (bench.line === null ? null : noteOf(bench.line)));

const level = computed(() => {
  const p = bench.profile;
  if (!p || bench.line === null) return null;
  const before = valueAt(p.grid_hz, p.untreated_db, bench.line);
  return before === null ? null : writeDb(before);
});
const treatment = computed(() => {
  const c = live.curves;
  if (!c || bench.line === null || c.trackId !== bench.trackId) return null;
  const v = valueAt(live.grid, c.total, bench.line);
  return v === null ? null : signed(v, 1);
});
const ring = computed(() => (bench.line === null ? null : probeRingMs(bench.line, bench.probe)));
const evidence = computed(() => (bench.line === null ? null : findings.at(bench.line)));
/** Whether the place stays while the notes change. */
const stays = computed(() => {
  const e = evidence.value;
  if (!e) return "";
  if (e.fixed >= 2) return `${signed(e.fixed, 0)} dB stay here`;
  return e.excess >= 3 ? "moves with notes" : "no peak here";
});
const boxStyle = computed(() => {
  if (y.value === null) return {};
  const below = y.value < 94;
  const x = bench.lineTime === null ? 0 : timeToX(bench.lineTime, bench.times, props.mapWidth);
  const left = props.mapLeft + Math.min(Math.max(8, x + 14), Math.max(8, props.mapWidth - 356));
  return { left: `${left}px`, top: `${below ? y.value + 10 : y.value - 86}px` };
});
</script>

<template>
  <div v-if="y !== null && y >= 0 && y <= height" class="overlay">
    <div class="band" :class="{ on: bench.probe.on }" :style="{ top: `${y - half}px`, height: `${2 * half}px` }" />
    <div class="line" :style="{ top: `${y}px` }" />
    <div class="box" :style="boxStyle" data-test="readout">
      <strong class="figure">{{ writeHz(bench.line ?? 0) }} Hz · {{ note?.name }} {{ signed(note?.cents ?? 0, 0) }} ct</strong>
      <div>
        <span class="figure">{{ level ?? "…" }}</span> dB in 1/24 oct
        <template v-if="treatment"> · treatment <span class="figure">{{ treatment }}</span> dB</template>
      </div>
      <div>
        <template v-if="evidence">track rings <span class="figure">{{ evidence.ring ? Math.round(evidence.ring) : "–" }}</span> ms · </template>probe itself rings <span class="figure">{{ ring }}</span> ms
      </div>
      <div v-if="evidence">
        <span class="figure">{{ signed(evidence.excess, 0) }}</span> dB over its surroundings · peak <span class="figure">{{ Math.round(100 * evidence.share) }}</span> % of time · {{ stays }}
      </div>
    </div>
  </div>
</template>

<style scoped>
.overlay { position: absolute; inset: 0; pointer-events: none; z-index: 3; overflow: hidden; }
.band { position: absolute; left: 0; right: 0; background: var(--probe); opacity: 0.13; }
.band.on { opacity: 0.32; }
.line { position: absolute; left: 0; right: 0; border-top: 1px solid var(--probe); }
.box {
  position: absolute; width: 348px; white-space: nowrap; overflow: hidden; background: var(--panel); border: 1px solid var(--probe); border-radius: 3px;
  padding: 3px 8px; font-size: 11px; line-height: 17px;
}
.box strong { font-size: 12.5px; }
</style>
