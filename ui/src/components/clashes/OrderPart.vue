<script setup lang="ts">
/** The tracks by importance: who stands higher keeps the place where two clash. Dragged, or stepped by keys. */
import { computed, ref, watch } from "vue";
import { useChanges } from "../../stores/changes";
import { useClashes } from "../../stores/clashes";
import { useSong } from "../../stores/song";
import { useView } from "../../stores/view";

const clashes = useClashes();
const changes = useChanges();
const song = useSong();
const view = useView();
const lifted = ref<number | null>(null);
const over = ref<number | null>(null);
const passage = computed(() => (clashes.whole ? null : view.passage));
/** Whether what is dragged here counts for the passage alone; a passage that has an order of its own shows that. */
const here = ref(false);
watch([() => clashes.orderOf, passage], ([of, now]) => (here.value = now !== null && (of === "passage" || here.value)), { immediate: true });
const byHand = computed(() => clashes.orderOf !== "role");
const save = (ids: number[]) => void changes.setImportance(ids, here.value ? passage.value : null);
const order = computed(() => clashes.order);

function put(id: number, at: number): void {
  const rest = order.value.filter((x) => x !== id);
  rest.splice(at, 0, id);
  save(rest);
}

function step(id: number, by: number): void {
  const at = order.value.indexOf(id) + by;
  if (at >= 0 && at < order.value.length) put(id, at);
}

function drop(id: number): void {
  const moving = lifted.value;
  lifted.value = over.value = null;
  if (moving !== null && moving !== id) put(moving, order.value.indexOf(id));
}
</script>

<template>
  <div class="order" data-test="order">
    <p class="soft">
      Who stands higher keeps the place where two clash{{ byHand ? "" : "; as long as nobody drags it, roles settle it: a voice from 1 to 5 kHz, in the lows what lives there" }}.
      What you decide on a clash itself overrides it.
    </p>
    <label v-if="passage" class="here"><input v-model="here" type="checkbox" :disabled="clashes.orderOf === 'passage'" /> for this passage only</label>
    <ol aria-label="Tracks by importance">
      <li
        v-for="id in order" :key="id" draggable="true" :class="{ over: over === id && lifted !== id }" @dragstart="lifted = id" @dragend="lifted = over = null"
        @dragover.prevent="over = id" @drop.prevent="drop(id)"
      >
        <span class="grip" aria-hidden="true">⋮⋮</span><span class="name">{{ clashes.nameOf(id) }}</span>
        <span class="soft">{{ song.trackOf(id)?.role ?? "group" }}</span>
        <button type="button" class="plain small quiet" :aria-label="`${clashes.nameOf(id)} more important`" @click="step(id, -1)">↑</button>
        <button type="button" class="plain small quiet" :aria-label="`${clashes.nameOf(id)} less important`" @click="step(id, 1)">↓</button>
      </li>
    </ol>
    <button v-if="clashes.orderOf === 'passage'" type="button" class="plain small back" @click="save([])">As in the song again</button>
    <button v-else-if="byHand" type="button" class="plain small back" @click="changes.setImportance([])">By role again</button>
  </div>
</template>

<style scoped>
.order { display: flex; flex-direction: column; gap: 8px; }
p { margin: 0; font-size: 12px; }
ol { margin: 0; padding: 0; list-style: none; counter-reset: place; border-top: 1px solid var(--line); }
li { counter-increment: place; display: flex; align-items: center; gap: 8px; border-bottom: 1px solid var(--line); padding: 2px 4px; font-size: 12.5px; cursor: grab; }
li::before { content: counter(place); font: 11px var(--mono); color: var(--soft); width: 16px; text-align: right; }
li.over { box-shadow: inset 0 2px 0 var(--clash); }
.grip { color: var(--soft); letter-spacing: -2px; }
.name { flex: 1; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
.soft { font-size: 11.5px; }
.here { display: flex; gap: 6px; align-items: center; font-size: 12px; }
input { accent-color: var(--treat); margin: 0; }
.back { align-self: flex-start; }
</style>
