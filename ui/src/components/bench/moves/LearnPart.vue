<script setup lang="ts">
/** Learning what stays in a track while the others play: between which frequencies, and the go-ahead. */
import { ref } from "vue";
import { tell } from "../../../lib/complain";
import { useBench } from "../../../stores/bench";
import { useChanges } from "../../../stores/changes";
import NumberField from "../../NumberField.vue";

/** Below, rooms have too few rings for any to be told from the rest. */
const FROM_HZ = 150;
const TO_HZ = 8000;

const emit = defineEmits<{ end: [] }>();
const bench = useBench();
const changes = useChanges();
const from = ref(FROM_HZ);
const to = ref(TO_HZ);
const learning = ref(false);

async function learn(): Promise<void> {
  if (!bench.track || learning.value) return;
  learning.value = true;
  const says = await changes.learn(bench.track.id, from.value, to.value);
  learning.value = false;
  if (says) tell(says);
  emit("end");
}
</script>

<template>
  <div class="learn" role="group" aria-label="Learn what stays">
    <p v-if="learning" class="soft" role="status">Listening to what stays while the others play …</p>
    <template v-else>
      <NumberField label="from" unit="Hz" compact ratio :model-value="from" :min="20" :max="to / 1.1" :step="1.06" :digits="0" @change="from = $event" />
      <NumberField label="to" unit="Hz" compact ratio :model-value="to" :min="from * 1.1" :max="20000" :step="1.06" :digits="0" @change="to = $event" />
      <button type="button" class="plain small" @click="learn()">Learn</button>
      <button type="button" class="plain small quiet" @click="emit('end')">Leave</button>
    </template>
  </div>
</template>

<style scoped>
.learn { display: flex; gap: 8px; align-items: end; }
p { margin: 0; }
</style>
