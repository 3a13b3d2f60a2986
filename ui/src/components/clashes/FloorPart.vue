<script setup lang="ts">
/** The floor: how much low end each track carries, and the low cut that is just not heard. */
import { computed, ref, watch } from "vue";
import type { components } from "../../api/schema";
import { percent } from "../../lib/clashes";
import type { Move } from "../../lib/moves";
import { signed } from "../../lib/notes";
import { toggled } from "../../lib/sets";
import { useChanges } from "../../stores/changes";
import { useClashes } from "../../stores/clashes";

type Row = components["schemas"]["TrackFloor"];
const clashes = useClashes();
const changes = useChanges();
const chosen = ref(new Set<number>());

const rows = computed<Row[]>(() => clashes.floors?.tracks ?? []);
const open = computed(() => rows.value.filter((r) => r.corner_in_mix_hz !== null));
watch(rows, () => (chosen.value = new Set(open.value.map((r) => r.track_id))), { immediate: true });

const why = (row: Row) =>
  row.left_alone ?? (row.same_as.length ? `same source as ${row.same_as.map(clashes.nameOf).join(", ")}: the same cut` : row.lowest_note_hz ? `lowest note ${Math.round(row.lowest_note_hz)} Hz` : "");

/** Tracks that would be cut while another one with the same source is not: their phases would be turned against each other. */
const apart = computed(() => open.value.filter((r) => chosen.value.has(r.track_id) && r.same_as.some((id) => !chosen.value.has(id))));
const linear = ref(true);

const cuts = computed(() =>
  open.value.filter((r) => chosen.value.has(r.track_id)).map((r) => ({
    track_id: r.track_id, frequency_hz: r.corner_in_mix_hz ?? 20, slope_db_per_octave: r.slope_db_per_octave as 12 | 24,
    linear: linear.value && apart.value.includes(r),
  })),
);

const moveOf = ({ track_id, frequency_hz, slope_db_per_octave }: (typeof cuts.value)[number]) => ({
  track_id, move: { mode: "static", shape: "low_cut", q: Math.SQRT1_2, gain_db: 0, enabled: true, octaves: 0, frequency_hz, slope_db_per_octave } as Partial<Move>,
});

async function take(): Promise<void> {
  clashes.quiet();
  await changes.acceptFloor(cuts.value);
}

watch(chosen, () => clashes.heard === "floor" && clashes.quiet());
</script>

<template>
  <div class="floor" data-test="floor">
    <p class="soft">Low end below 150 Hz, and the highest low cut that changes each track in the mix by under 1 % at its most exposed moments, also 10 dB louder.</p>
    <label><input v-model="clashes.aboveNotes" type="checkbox" /> also above the lowest note that a track plays</label>
    <p v-if="clashes.floorsFailed">{{ clashes.floorsFailed }}</p>
    <p v-else-if="clashes.floorsPending || !clashes.floors" class="soft">Trying low cuts on every track …</p>
    <template v-else>
      <table>
        <thead><tr><th><span class="hidden-text">take</span></th><th>track</th><th>share</th><th>in mix</th><th>alone</th></tr></thead>
        <tbody>
          <template v-for="r in rows" :key="r.track_id">
            <tr :class="{ off: r.corner_in_mix_hz === null }">
              <td><input type="checkbox" :aria-label="`Cut ${clashes.nameOf(r.track_id)}`" :checked="chosen.has(r.track_id)" :disabled="r.corner_in_mix_hz === null" @change="chosen = toggled(chosen, r.track_id)" /></td>
              <td><span class="share"><i :style="{ width: `${100 * r.share}%` }" /></span>{{ clashes.nameOf(r.track_id) }}</td>
              <td class="figure">{{ percent(r.share) }}</td>
              <td class="figure">{{ r.corner_in_mix_hz === null ? "–" : `${Math.round(r.corner_in_mix_hz)} Hz` }}</td>
              <td class="figure">{{ r.corner_alone_hz === null ? "–" : `${Math.round(r.corner_alone_hz)} Hz` }}</td>
            </tr>
            <tr class="why"><td /><td colspan="4" class="soft">{{ why(r) }}{{ r.corner_in_mix_hz === null ? "" : ` · ${r.slope_db_per_octave} dB/oct` }}</td></tr>
          </template>
        </tbody>
      </table>
      <p>Sum of the lows <span class="figure">{{ signed(clashes.floors.before_db, 1) }} dB</span>, with all cuts <span class="figure">{{ signed(clashes.floors.after_db, 1) }} dB</span>.</p>
      <label v-if="apart.length">
        <input v-model="linear" type="checkbox" /> linear phase on {{ apart.map((r) => clashes.nameOf(r.track_id)).join(", ") }}: another track carries the same source
        and is not cut, a cut of minimum phase turns the two against each other
      </label>
      <div class="buttons">
        <button type="button" class="plain small" :disabled="!cuts.length" :aria-pressed="clashes.heard === 'floor'" @click="clashes.hearMoves('floor', cuts.map(moveOf))">Hear with {{ cuts.length === 1 ? "it" : "them" }}</button>
        <button type="button" class="plain small take" :disabled="!cuts.length" @click="take()">Make {{ cuts.length }} low {{ cuts.length === 1 ? "cut" : "cuts" }}</button>
      </div>
    </template>
  </div>
</template>

<style scoped>
.floor { display: flex; flex-direction: column; gap: 7px; overflow: auto; min-height: 0; }
p { margin: 0; font-size: 12px; }
table { border-collapse: collapse; font-size: 12px; width: 100%; }
th { text-align: right; font-weight: 500; font-size: 11px; color: var(--soft); padding: 2px 4px; }
th:nth-child(2) { text-align: left; }
td { padding: 2px 4px; border-top: 1px solid var(--line); }
.why td { border: 0; font-size: 11px; padding-top: 0; }
td.figure { text-align: right; font-size: 11.5px; white-space: nowrap; }
.off { color: var(--soft); }
.share { display: inline-block; width: 34px; height: 7px; margin-right: 6px; background: var(--line); vertical-align: middle; }
.share i { display: block; height: 100%; background: var(--soft); }
input { accent-color: var(--treat); }
label { font-size: 12px; line-height: 16px; }
.buttons { display: flex; gap: 6px; }
.take { border-color: var(--treat); color: var(--treat); font-weight: 600; }
</style>
