<script setup lang="ts">
/** Treating a group in place of its tracks, or its tracks in its place: which moves, what they become, what the sum does. */
import { keepPreviousData, useQuery } from "@tanstack/vue-query";
import { ElCheckbox } from "element-plus";
import { computed, ref } from "vue";
import type { Direction } from "../../../api/client";
import { cache } from "../../../data/cache";
import { gatheringQuery } from "../../../data/queries";
import { type Move, gainWords, nameOf, placeOf } from "../../../lib/moves";
import { signed, writeHz } from "../../../lib/notes";
import { toggled } from "../../../lib/sets";
import { isWithin } from "../../../lib/tree";
import { useBench } from "../../../stores/bench";
import { useChanges } from "../../../stores/changes";
import { useSong } from "../../../stores/song";
import { useView } from "../../../stores/view";

const props = defineProps<{ direction: Direction }>();
const emit = defineEmits<{ end: [] }>();
const song = useSong();
const bench = useBench();
const changes = useChanges();
const view = useView();

const toGroup = computed(() => props.direction === "to_group");
const inside = computed(() => {
  const group = bench.track;
  if (!group) return [];
  return song.tracks.filter((t) => group.kind === "mix" || isWithin(song.strips, t.id, group.id));
});
const candidates = computed(() => {
  const strips = toGroup.value ? inside.value : bench.track ? [bench.track] : [];
  return strips.flatMap((s) => (s.moves as Move[]).map((move) => ({ on: s.name, move })));
});
const left = ref<ReadonlySet<number>>(new Set());
const chosen = computed(() => candidates.value.map((c) => c.move.id).filter((id) => !left.value.has(id)));

const state = computed(() => [song.song?.revision, view.passage]);
const { data: plan, error } = useQuery(
  computed(() => ({ ...gatheringQuery(song.id, bench.trackId ?? 0, props.direction, chosen.value, state.value), placeholderData: keepPreviousData })),
  cache,
);
const nameOfStrip = (id: number) => song.stripOf(id)?.name ?? "";
const words = (move: Move) => `${nameOf(move)} ${writeHz(placeOf(move))} Hz ${gainWords(move)}`;
const LEAST_DB = 0.05;
const sum = computed(() => {
  const d = plan.value?.difference;
  if (!d) return "";
  if (Math.abs(d.most_db) < LEAST_DB) return "The sum over the passage stays as it is.";
  return `The sum over the passage changes by ${signed(d.lu, 1)} LU, at most by ${signed(d.most_db, 1)} dB, at ${writeHz(d.at_hz)} Hz.`;
});

const doing = ref(false);
async function act(): Promise<void> {
  if (!bench.track || doing.value) return;
  doing.value = true;
  const done = await changes.gather(bench.track.id, props.direction, chosen.value);
  doing.value = false;
  if (done) emit("end");
}
</script>

<template>
  <div class="gather" role="group" :aria-label="toGroup ? 'Treat the group in place of its tracks' : 'Treat the tracks in its place'">
    <p v-if="!candidates.length" class="soft">{{ toGroup ? "Its tracks have no moves." : "It has no moves." }}</p>
    <ul v-else class="choice">
      <li v-for="{ on, move } in candidates" :key="move.id">
        <ElCheckbox :model-value="!left.has(move.id)" size="small" :label="words(move)" @change="left = toggled(left, move.id)" />
        <span v-if="toGroup" class="soft">{{ on }}</span>
      </li>
    </ul>
    <p v-if="error" class="soft">{{ error.message }}</p>
    <template v-else-if="plan && chosen.length">
      <h3 class="caption">{{ toGroup ? "becomes here" : "becomes on the tracks" }}</h3>
      <ul class="made">
        <li v-for="(line, i) in plan.lines" :key="i">
          <span class="figure">{{ words(line.move as Move) }}</span>
          <span class="soft">{{ toGroup ? line.says : [nameOfStrip(line.strip_id), line.says].filter(Boolean).join("; ") }}</span>
        </li>
        <li v-for="why in plan.stays" :key="why" class="soft">{{ why }}</li>
      </ul>
      <p role="status">{{ sum }}</p>
    </template>
    <div class="buttons">
      <button type="button" class="plain small" :disabled="!chosen.length || !plan || Boolean(error) || doing" @click="act">
        {{ toGroup ? "Move them here" : "Put them on the tracks" }}
      </button>
      <button type="button" class="plain small quiet" @click="emit('end')">Leave</button>
    </div>
  </div>
</template>

<style scoped>
.gather { display: flex; flex-direction: column; gap: 6px; border: 1px solid var(--treat); padding: 8px; font-size: 12px; }
ul { list-style: none; margin: 0; padding: 0; }
.choice { max-height: 130px; overflow: auto; }
.choice li { display: flex; justify-content: space-between; align-items: center; gap: 8px; white-space: nowrap; }
.choice li > span:last-child { overflow: hidden; text-overflow: ellipsis; }
.choice :deep(.el-checkbox) { height: 20px; }
.made { max-height: 150px; overflow: auto; }
.made li { display: flex; flex-direction: column; border-top: 1px solid var(--line); padding: 2px 0; }
.made .figure { font-size: 11.5px; }
p { margin: 0; }
.buttons { display: flex; gap: 6px; }
</style>
