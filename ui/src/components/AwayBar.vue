<script setup lang="ts">
/** Says where one looks that nothing can be saved just now, what waits, and what goes on. */
import { useEventListener } from "@vueuse/core";
import { ElMessageBox } from "element-plus";
import { computed } from "vue";
import { useLive } from "../live/session";
import { useAway } from "../stores/away";

const away = useAway();
const live = useLive();

const waits = computed(() => (away.waiting === 1 ? "1 change waits" : `${away.waiting} changes wait`));
const listening = computed(() => (away.missing === "database" && live.connected ? " Listening goes on." : ""));

async function giveUp(): Promise<void> {
  try {
    await ElMessageBox.confirm(`${waits.value} to be saved. Given up, they are gone, and what was saved last is shown.`, "Give them up?", {
      confirmButtonText: "Give up", cancelButtonText: "Keep waiting",
    });
    away.giveUp();
  } catch {
    // they wait on
  }
}

useEventListener(window, "beforeunload", (event) => {
  if (away.waiting && away.missing) event.preventDefault();
});
</script>

<template>
  <div v-if="away.missing" class="away" role="alert" data-test="away">
    <strong>{{ away.waiting ? "Not saved" : "Nothing can be saved" }}:</strong>
    the {{ away.missing }} is away since {{ away.time }}.
    <template v-if="away.waiting">{{ waits }} and {{ away.waiting === 1 ? "is" : "are" }} sent as soon as it is back.</template>
    {{ listening }}
    <button v-if="away.waiting" type="button" class="plain small" @click="giveUp">Give up …</button>
  </div>
</template>

<style scoped>
.away { padding: 5px 18px; font-size: 13px; color: var(--on-ink); background: var(--stand-out); display: flex; gap: 6px; align-items: center; }
.away button { margin-left: auto; color: inherit; border-color: currentColor; background: transparent; }
</style>
