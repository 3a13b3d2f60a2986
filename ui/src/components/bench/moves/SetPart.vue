<script setup lang="ts">
/** A set of cuts at the octaves or multiples of a frequency, which move together. */
import { ElOption, ElSelect } from "element-plus";
import { computed, ref } from "vue";
import { membersOf } from "../../../lib/sets";
import { noteOf, writeHz } from "../../../lib/notes";
import { useBench } from "../../../stores/bench";
import { useChanges } from "../../../stores/changes";
import { useProbe } from "../../../stores/probe";
import NumberField from "../../NumberField.vue";

const emit = defineEmits<{ end: [] }>();
const bench = useBench();
const changes = useChanges();
const probe = useProbe();
const frequency = ref(Number((probe.line ?? bench.chosenMove?.frequency_hz ?? 220).toFixed(1)));
const spacing = ref(probe.values.spacing);
const count = ref(probe.values.count > 1 ? probe.values.count : 5);
const gain = ref(-6);
const taper = ref(0);
const members = computed(() => membersOf(frequency.value, count.value, spacing.value));

async function make(): Promise<void> {
  if (!bench.track) return;
  const set = { from_hz: frequency.value, count: Math.round(count.value), spacing: spacing.value, gain_db: gain.value, taper_db: taper.value, q: 8 };
  if (await changes.addSet(bench.track.id, set)) emit("end");
}
</script>

<template>
  <div class="part" role="group" aria-label="Set of harmonics">
    <div class="row">
      <NumberField label="from" unit="Hz" compact ratio :model-value="frequency" :min="20" :max="12000" :step="2 ** (1 / 48)" @change="frequency = $event" />
      <NumberField label="members" compact :model-value="count" :min="2" :max="16" :step="1" :digits="0" @change="count = $event" />
    </div>
    <div class="row">
      <ElSelect v-model="spacing" size="small" aria-label="Members lie at"><ElOption value="octaves" label="octaves" /><ElOption value="multiples" label="multiples" /></ElSelect>
      <NumberField label="gain" unit="dB" compact :model-value="gain" :min="-24" :max="12" :step="0.5" @change="gain = $event" />
      <NumberField label="less each" unit="dB" compact :model-value="taper" :min="0" :max="12" :step="0.5" @change="taper = $event" />
    </div>
    <p class="soft">{{ noteOf(frequency).name }}: {{ members.map(writeHz).join(", ") }} Hz</p>
    <div class="row">
      <button type="button" class="plain small" @click="make()">Make {{ members.length }} moves</button>
      <button type="button" class="plain small quiet" @click="emit('end')">Leave</button>
    </div>
  </div>
</template>

<style scoped>
.part { display: flex; flex-direction: column; gap: 4px; border: 1px solid var(--treat); padding: 6px 8px; font-size: 12px; }
.row { display: flex; gap: 10px; align-items: end; }
.row .el-select { width: 92px; flex: none; }
p { margin: 0; }
</style>
