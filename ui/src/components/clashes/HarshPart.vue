<script setup lang="ts">
/** What the tracks of a group add up to between 2 and 5 kHz: one cut on the group against cuts on those that pile up. */
import { useQuery } from "@tanstack/vue-query";
import { ElOption, ElSelect } from "element-plus";
import { computed, ref } from "vue";
import type { components } from "../../api/schema";
import { cache } from "../../data/cache";
import { pileQuery } from "../../data/queries";
import { moveWords, percent, soundOf } from "../../lib/clashes";
import type { Move } from "../../lib/moves";
import { useChanges } from "../../stores/changes";
import { useClashes } from "../../stores/clashes";
import { useSong } from "../../stores/song";
import { useView } from "../../stores/view";
import NumberField from "../NumberField.vue";

type Cuts = components["schemas"]["PileCutsOut"];
const clashes = useClashes();
const changes = useChanges();
const song = useSong();
const view = useView();

const groups = computed(() => song.strips.filter((s) => s.kind !== "track"));
const wanted = ref<number | null>(null);
const strip = computed(() => song.stripOf(wanted.value)?.id ?? groups.value.find((s) => s.kind === "group")?.id ?? groups.value[0]?.id ?? 0);
const depth = ref(2);
const { data: pile, error, isFetching } = useQuery(computed(() => pileQuery(song.id, strip.value, depth.value, view.passage, soundOf(song.song))), cache);
const nameOf = (id: number) => song.stripOf(id)?.name ?? "";

const movesOf = (cuts: Cuts) => cuts.moves as { track_id: number; move: Move }[];

async function take(cuts: Cuts): Promise<void> {
  clashes.quiet();
  await changes.acceptCarves(`harsh range of ${nameOf(strip.value)}`, movesOf(cuts));
}
</script>

<template>
  <div class="harsh" data-test="harsh">
    <p class="soft">Between 2 and 5 kHz many tracks add up to what tires the ear. The same can be taken from the sum by one cut on the group, or from the tracks that make it.</p>
    <div class="what">
      <ElSelect :model-value="strip" size="small" aria-label="Group whose tracks are added up" @change="wanted = $event">
        <ElOption v-for="s in groups" :key="s.id" :value="s.id" :label="s.name" />
      </ElSelect>
      <NumberField label="Cut" unit="dB" compact :model-value="depth" :min="0.5" :max="6" :step="0.5" title="how deep the cut on the group is" @change="depth = $event" />
    </div>
    <p v-if="error">{{ error.message }}</p>
    <p v-else-if="!pile || isFetching" class="soft">Adding them up …</p>
    <template v-else>
      <ul class="tracks" aria-label="Shares of the sum between 2 and 5 kHz">
        <li v-for="t in pile.tracks" :key="t.track_id" :class="{ piled: t.piled }">
          <span>{{ nameOf(t.track_id) }}</span><span class="share"><i :style="{ width: `${100 * t.share}%` }" /></span><span class="figure">{{ percent(t.share) }}</span>
        </li>
      </ul>
      <div v-for="cuts in pile.cuts" :key="cuts.on" class="cuts" role="group" :aria-label="cuts.on === 'group' ? 'One cut on the group' : 'Cuts on the tracks'">
        <strong>{{ cuts.on === "group" ? `One cut on ${nameOf(strip)}` : "Cuts on what piles up" }}</strong>
        <span v-for="m in movesOf(cuts)" :key="m.track_id">{{ nameOf(m.track_id) }}: {{ moveWords(m.move, nameOf) }}</span>
        <span class="soft">
          The sum there falls by {{ cuts.drop_db.toFixed(1) }} dB. Takes {{ cuts.taken_sones.toFixed(2) }} sones from
          {{ cuts.on === "group" ? "all of them" : "those" }}<template v-if="cuts.gained_sones >= 0.005">; the others gain {{ cuts.gained_sones.toFixed(2) }}</template>.
        </span>
        <span class="buttons">
          <button type="button" class="plain small" :aria-pressed="clashes.heard === cuts.on" @click="clashes.hearMoves(cuts.on, movesOf(cuts))">Hear it</button>
          <button type="button" class="plain small take" @click="take(cuts)">{{ cuts.on === "group" ? "Cut the group" : "Cut the tracks" }}</button>
        </span>
      </div>
      <p v-if="pile.cuts.length === 1" class="soft">Cuts on single tracks would have to be deeper than 8 dB, or all tracks share in it alike.</p>
    </template>
  </div>
</template>

<style scoped>
.harsh { display: flex; flex-direction: column; gap: 8px; }
p { margin: 0; font-size: 12px; }
.what { display: flex; gap: 10px; align-items: end; }
.what .number { flex: none; width: 92px; white-space: nowrap; }
.tracks { list-style: none; margin: 0; padding: 0; font-size: 12px; }
.tracks li { display: grid; grid-template-columns: 1fr 130px 48px; gap: 8px; align-items: center; padding: 1px 0; }
.tracks .figure { text-align: right; font-size: 11.5px; }
.piled { font-weight: 600; }
.share { height: 8px; background: var(--line); }
.share i { display: block; height: 100%; background: var(--soft); }
.piled .share i { background: var(--stand-out); }
.cuts { display: flex; flex-direction: column; gap: 3px; border-top: 1px solid var(--line); padding-top: 6px; font-size: 12px; }
.cuts .soft { font-size: 11.5px; }
.buttons { display: flex; gap: 6px; padding-top: 2px; }
.take { border-color: var(--treat); color: var(--treat); font-weight: 600; }
</style>
