<script setup lang="ts">
/** What is read on the line, below the panels, where it hides nothing; without a line, what the drawings mean. */
import { computed } from "vue";
import { valueAt } from "../../../lib/axis";
import { probeRingMs } from "../../../lib/moves";
import { noteOf, signed, writeDb, writeHz, writeTime } from "../../../lib/notes";
import { useLive } from "../../../live/session";
import { useBench } from "../../../stores/bench";
import { useFindings } from "../../../stores/findings";
import { useProbe } from "../../../stores/probe";
import { useView } from "../../../stores/view";

const bench = useBench();
const live = useLive();
const findings = useFindings();
const view = useView();
const probe = useProbe();

const shown = computed(() => (view.readout ? probe.line : null));
const note = computed(() => (shown.value === null ? null : noteOf(shown.value)));
const level = computed(() => {
  const p = bench.profile;
  if (!p || shown.value === null) return null;
  const before = valueAt(p.grid_hz, p.untreated_db, shown.value);
  return before === null ? null : writeDb(before);
});
const treatment = computed(() => {
  const c = live.curves;
  if (!c || shown.value === null || c.trackId !== bench.trackId) return null;
  const v = valueAt(live.grid, c.total, shown.value);
  return v === null ? null : signed(v, 1);
});
const evidence = computed(() => (shown.value === null ? null : findings.at(shown.value)));
/** Whether the place stays while the notes change. */
const stays = computed(() => {
  const e = evidence.value;
  if (!e) return "";
  if (e.fixed >= 2) return `${signed(e.fixed, 0)} dB stay here while notes change`;
  return e.excess >= 3 ? "moves with the notes" : "no peak here";
});
</script>

<template>
  <div class="bar">
    <div v-if="shown !== null" class="readout" data-test="readout">
      <strong class="figure">{{ writeHz(shown) }} Hz · {{ note?.name }} {{ signed(note?.cents ?? 0, 0) }} ct</strong>
      <span v-if="probe.lineTime !== null">at <b class="figure">{{ writeTime(probe.lineTime) }}</b></span>
      <span><b class="figure">{{ level ?? "…" }}</b> dB in 1/24 oct</span>
      <span v-if="treatment">treatment <b class="figure">{{ treatment }}</b> dB</span>
      <span v-if="evidence">track rings <b class="figure">{{ evidence.ring ? Math.round(evidence.ring) : "–" }}</b> ms</span>
      <span>probe itself rings <b class="figure">{{ probeRingMs(shown, probe.values) }}</b> ms</span>
      <template v-if="evidence">
        <span><b class="figure">{{ signed(evidence.excess, 0) }}</b> dB over its surroundings</span>
        <span>peak <b class="figure">{{ Math.round(100 * evidence.share) }}</b> % of the time</span>
        <span>{{ stays }}</span>
      </template>
    </div>
    <div v-else class="legend soft">
      <span><i class="key grey" /> untreated</span><span><i class="key green" /> treated, treatment</span>
      <span><i class="key dots" /> playing now</span><span><i class="key ochre" /> line and width of the probe</span>
      <span><i class="key red" /> stands out</span>
    </div>
  </div>
</template>

<style scoped>
.bar { height: 42px; padding: 5px 0 0 52px; font-size: 11.5px; line-height: 17px; overflow: hidden; }
.readout { display: flex; flex-wrap: wrap; gap: 0 14px; align-items: baseline; white-space: nowrap; color: var(--soft); }
.readout strong { font-size: 12.5px; color: var(--probe-text); min-width: 172px; }
.readout b { font-weight: 400; color: var(--ink); }
.legend { display: flex; gap: 12px; font-size: 10.5px; white-space: nowrap; }
.key { display: inline-block; width: 14px; height: 8px; margin-right: 4px; }
.grey { background: var(--grey); }
.green { border-top: 2px solid var(--treat); height: 3px; vertical-align: middle; }
.dots { border-top: 2px dotted var(--soft); height: 3px; vertical-align: middle; }
.ochre { background: var(--probe); opacity: 0.5; }
.red { background: var(--stand-out); }
</style>
