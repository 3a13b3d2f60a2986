<script setup lang="ts">
/** The role of a track: a word; pressed, the list of roles. The list is only made for the one that is pressed. */
import { ElOption, ElSelect } from "element-plus";
import { nextTick, ref } from "vue";
import type { Track } from "../../api/client";

const ROLES = ["voice", "drums", "percussion", "bass", "guitar", "keys", "strings", "brass", "winds", "mallets", "room", "other"] as const;

defineProps<{ name: string; role: Track["role"] }>();
const emit = defineEmits<{ change: [role: Track["role"]] }>();
const choosing = ref(false);
const select = ref<InstanceType<typeof ElSelect> | null>(null);

async function begin(): Promise<void> {
  choosing.value = true;
  await nextTick();
  select.value?.focus();
  select.value?.toggleMenu();
}

function take(role: Track["role"]): void {
  choosing.value = false;
  emit("change", role);
}
</script>

<template>
  <button v-if="!choosing" type="button" class="role" :aria-label="`Role of ${name}: ${role}`" title="what it plays: press to choose" @click="begin">{{ role }}</button>
  <ElSelect
    v-else ref="select" :model-value="role" size="small" class="choose" :aria-label="`Role of ${name}`" @change="take"
    @visible-change="(open: boolean) => !open && (choosing = false)"
  >
    <ElOption v-for="r in ROLES" :key="r" :value="r" :label="r" />
  </ElSelect>
</template>

<style scoped>
.role { border: 0; border-bottom: 1px dotted var(--soft); background: none; color: var(--ink); font: 11px var(--sans); padding: 0; cursor: pointer; }
.choose { width: 96px; }
</style>
