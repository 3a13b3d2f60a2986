<script setup lang="ts">
/** Long work: its progress, its end, a way to stop it. */
import { ElProgress } from "element-plus";
import { computed, ref } from "vue";
import type { Task } from "../api/client";
import { useTasks } from "../stores/tasks";

const props = defineProps<{
  tasks: readonly Task[];
  /** Files on their way to the server. */
  sending?: { name: string; share: number }[];
  /** Leave out what ended well without anything to say. */
  hideDone?: boolean;
}>();

const work = useTasks();
const seen = ref(new Set<number>());
const open = (task: Task) => task.state === "waiting" || task.state === "running";
const shown = computed(() =>
  props.tasks.filter((t) => !seen.value.has(t.id) && (open(t) || !props.hideDone || (t.message && t.state !== "cancelled"))).slice(-12),
);
const WORDS: Record<string, string> = { waiting: "waiting", running: "working", done: "done", failed: "failed", cancelled: "cancelled" };
const files = (task: Task) => (Array.isArray(task.result.files) ? (task.result.files as string[]) : []);

function dismiss(id: number): void {
  seen.value = new Set([...seen.value, id]);
}
</script>

<template>
  <ul v-if="shown.length || sending?.length" class="tasks" aria-live="polite" data-test="tasks">
    <li v-for="line in sending" :key="line.name">
      <span class="label">{{ line.name }}</span><span class="state soft">sending</span>
      <ElProgress class="bar" :percentage="Math.round(line.share * 100)" :stroke-width="6" :aria-label="`Sending ${line.name}`" />
    </li>
    <li v-for="task in shown" :key="task.id" :class="task.state">
      <span class="label">{{ task.label }}</span><span class="state soft">{{ open(task) && task.attempts > 1 ? "taken up again" : WORDS[task.state] }}</span>
      <ElProgress v-if="open(task)" class="bar" :percentage="Math.round(task.progress * 100)" :stroke-width="6" :aria-label="`${task.label}: progress`" />
      <span v-else class="bar message">
        {{ task.message }}
        <a v-for="name in files(task)" :key="name" :href="`/api/tasks/${task.id}/files/${encodeURIComponent(name)}`" download>{{ name }}</a>
      </span>
      <button v-if="open(task)" type="button" class="plain small" :aria-label="`Cancel ${task.label}`" @click="work.cancel(task.id)">Cancel</button>
      <button v-else type="button" class="plain small quiet" :aria-label="`Dismiss ${task.label}`" @click="dismiss(task.id)">Dismiss</button>
    </li>
  </ul>
</template>

<style scoped>
.tasks { list-style: none; margin: 0 0 8px; padding: 4px 10px; background: var(--panel); border: 1px solid var(--line); max-height: 190px; overflow: auto; }
li { display: grid; grid-template-columns: 220px 92px 1fr auto; gap: 12px; align-items: center; padding: 3px 0; font-size: 12px; }
.label { overflow: hidden; text-overflow: ellipsis; white-space: nowrap; font-weight: 500; }
.failed .message { color: var(--stand-out); }
.message a { margin-right: 12px; }
</style>
