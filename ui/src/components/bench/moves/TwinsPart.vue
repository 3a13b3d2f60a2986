<script setup lang="ts">
/** Moves of this track on others as well: as they are or re-tuned, and moving together if that is wanted. */
import { ElCheckbox, ElOption, ElSelect } from "element-plus";
import { computed, ref } from "vue";
import { tell } from "../../../lib/complain";
import { useBench } from "../../../stores/bench";
import { useChanges } from "../../../stores/changes";
import { useSong } from "../../../stores/song";

const props = defineProps<{ moveIds: readonly number[] }>();
const emit = defineEmits<{ end: [] }>();
const bench = useBench();
const song = useSong();
const changes = useChanges();
const to = ref<number[]>([]);
const refit = ref(true);
const linked = ref(false);
const doing = ref(false);
const others = computed(() => (song.song?.strips ?? []).filter((s) => s.id !== bench.trackId));
const what = computed(() => (props.moveIds.length === 1 ? "this move" : `all ${props.moveIds.length} moves`));

async function make(): Promise<void> {
  if (!bench.track || !to.value.length) return;
  doing.value = true;
  const left = await changes.makeTwins(bench.track.id, { move_ids: [...props.moveIds], to: to.value, retune: refit.value, linked: linked.value });
  doing.value = false;
  if (left === null) return;
  const number = (id: number) => bench.moves.findIndex((m) => m.id === id) + 1;
  if (left.length) tell(`Left out: ${left.map((l) => `move ${number(l.of)} on ${song.stripOf(l.strip_id)?.name} (${l.says})`).join("; ")}.`);
  emit("end");
}
</script>

<template>
  <div class="part" role="group" aria-label="Twins">
    <ElSelect v-model="to" multiple collapse-tags size="small" :placeholder="`${what} on which tracks?`" aria-label="Twins on">
      <ElOption v-for="s in others" :key="s.id" :value="s.id" :label="s.name" />
    </ElSelect>
    <ElCheckbox v-model="refit" size="small" label="re-tuned: each centre to where it rings there" />
    <ElCheckbox v-model="linked" size="small" label="move together from now on" />
    <div class="row">
      <button type="button" class="plain small" :disabled="!to.length || doing" @click="make()">{{ doing ? "Listening …" : "Make twins" }}</button>
      <button type="button" class="plain small quiet" @click="emit('end')">Leave</button>
    </div>
  </div>
</template>

<style scoped>
.part { display: flex; flex-direction: column; gap: 2px; border: 1px solid var(--treat); padding: 6px 8px; font-size: 12px; }
.part :deep(.el-checkbox) { height: 20px; }
.row { display: flex; gap: 6px; }
</style>
