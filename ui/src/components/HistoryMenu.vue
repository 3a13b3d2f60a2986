<script setup lang="ts">
/** The song's last steps, as a menu of the head: any of them can be gone back to, as one step. */
import { useQuery } from "@tanstack/vue-query";
import { ElPopover } from "element-plus";
import { computed, ref } from "vue";
import { cache } from "../data/cache";
import { historyQuery } from "../data/queries";
import { useChanges } from "../stores/changes";
import { useSong } from "../stores/song";

const song = useSong();
const changes = useChanges();
const shown = ref(false);
const { data } = useQuery(computed(() => historyQuery(song.id, song.song?.revision ?? 0, shown.value)), cache);
/** One line a step, the newest first: what was dragged is many. */
const steps = computed(() => (data.value ?? []).filter((line, i, all) => all.findIndex((x) => x.step_id === line.step_id) === i));
const when = (at: string) => new Date(at).toTimeString().slice(0, 5);
</script>

<template>
  <ElPopover v-model:visible="shown" trigger="click" :width="320" placement="bottom-end">
    <template #reference><button type="button" class="plain small" :disabled="!song.song">History</button></template>
    <ul class="history" aria-label="History">
      <li v-for="(step, i) in steps" :key="step.id">
        <button type="button" :disabled="i === 0" :title="i === 0 ? 'as it is now' : 'back to how everything stood behind this step'" @click="changes.goBackTo(step.id)">
          <span>{{ step.label }}</span><span class="soft figure">{{ when(step.created_at) }}</span>
        </button>
      </li>
    </ul>
  </ElPopover>
</template>

<style scoped>
.history { list-style: none; margin: 0; padding: 0; max-height: 380px; overflow: auto; font-size: 12px; }
li { border-bottom: 1px solid var(--line); }
.history button { width: 100%; display: flex; justify-content: space-between; gap: 8px; border: 0; background: none; font: inherit; color: inherit; text-align: left; padding: 4px 2px; cursor: pointer; }
.history button:hover:not(:disabled) { background: var(--treat-soft); }
.history button:disabled { font-weight: 600; cursor: default; }
</style>
