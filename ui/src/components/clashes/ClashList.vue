<script setup lang="ts">
/** Clashes, the worst first; the chosen one opens below. */
import { nextTick, ref, watch } from "vue";
import { idOf, percent, rangeWords } from "../../lib/clashes";
import { useClashes } from "../../stores/clashes";

const clashes = useClashes();
const list = ref<HTMLElement | null>(null);

watch(() => clashes.chosenId, async () => {
  await nextTick();
  list.value?.querySelector("[aria-current=true]")?.scrollIntoView({ block: "nearest" });
});
</script>

<template>
  <p v-if="clashes.failed" class="none">{{ clashes.failed }}</p>
  <p v-else-if="!clashes.found" class="soft none">{{ clashes.whole ? "The whole song was not looked at yet." : "Listening to the passage …" }}</p>
  <p v-else-if="!clashes.all.length" class="soft none">No track hides another here.</p>
  <ul ref="list" aria-label="Clashes">
    <li v-for="c in clashes.shown" :key="idOf(c)" :class="{ chosen: idOf(c) === clashes.chosenId }">
      <button type="button" :aria-current="idOf(c) === clashes.chosenId" @click="clashes.choose(c)">
        <span class="number figure">{{ clashes.numberOf(c) }}</span>
        <span class="who"><strong>{{ clashes.nameOf(c.covered) }}</strong> under {{ clashes.nameOf(c.by) }}</span>
        <span class="figure range">{{ rangeWords(c.from_hz, c.to_hz) }}</span>
        <span class="soft what">loses {{ percent(c.lost) }} of its loudness, {{ percent(c.share_of_time) }} of the time</span>
      </button>
    </li>
  </ul>
  <button v-if="clashes.hidden" type="button" class="plain small fold" :aria-pressed="clashes.unfolded" @click="clashes.unfolded = !clashes.unfolded">
    {{ clashes.hidden }} more that lose under 5 %
  </button>
</template>

<style scoped>
ul { list-style: none; margin: 0; padding: 0; overflow: auto; min-height: 88px; flex: 0 1 auto; border-top: 1px solid var(--line); }
li { border-bottom: 1px solid var(--line); }
li.chosen { background: var(--paper); box-shadow: inset 3px 0 0 var(--clash); }
li button {
  display: grid; grid-template-columns: 24px 1fr auto; gap: 0 8px; width: 100%; border: 0; background: none; color: inherit; font: inherit; font-size: 12.5px;
  text-align: left; padding: 5px 8px; cursor: pointer;
}
.number { grid-row: span 2; align-self: center; width: 20px; height: 20px; border: 1px solid var(--clash); border-radius: 50%; color: var(--clash); font-size: 11px; line-height: 18px; text-align: center; }
.chosen .number { background: var(--clash); color: var(--panel); }
.who { overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
.range { font-size: 11.5px; white-space: nowrap; }
.what { grid-column: 2 / 4; font-size: 11.5px; }
.fold { align-self: flex-start; }
.none { margin: 4px 0; }
</style>
