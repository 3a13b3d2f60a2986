<script setup lang="ts">
/** What stands out, most certain and most disturbing first; the chosen one with its evidence and what to do. */
import { computed, nextTick, ref, watch } from "vue";
import { figureOf, lookState } from "../../../lib/findings";
import { signed, writeHz } from "../../../lib/notes";
import { useChanges } from "../../../stores/changes";
import { useFindings } from "../../../stores/findings";
import { useSong } from "../../../stores/song";
import { useView } from "../../../stores/view";
import FindingCard from "./FindingCard.vue";

const SHAPES = {
  narrow: "M0 6 L12 4.5 L12 7.5 Z",
  broad: "M0 6 C4 6 6 1 12 1 L12 11 C6 11 4 6 0 6 Z",
  moments: "M1 2 H3 V10 H1 Z M5.5 2 H7.5 V10 H5.5 Z M10 2 H12 V10 H10 Z",
  floor: "M0 11 H12 V7 L8 9 L4 7.5 L0 9 Z",
} as const;

const song = useSong();
const changes = useChanges();
const findings = useFindings();
const view = useView();
const list = ref<HTMLElement | null>(null);
const OWN_TONE = "own tone";
const faults = computed(() => findings.open.filter((f) => f.document.kind !== OWN_TONE));
const percent = (share: number) => Math.round(100 * share);

watch(() => findings.chosenId, async () => {
  await nextTick();
  list.value?.querySelector("[aria-current=true]")?.scrollIntoView({ block: "nearest" });
});
</script>

<template>
  <section class="findings" aria-label="Findings">
    <header>
      <h2 class="caption">Findings</h2>
      <span class="soft" role="status">
        <template v-if="findings.looking">{{ lookState(findings.looking) }} …</template>
        <template v-else>{{ faults.length }} open · {{ findings.decided.length }} decided</template>
      </span>
      <button
        type="button" class="plain small" :aria-pressed="song.song?.look_in_passage ?? false" :disabled="!view.passage"
        :title="view.passage ? 'Look in the passage only, or in the whole track' : 'Choose a passage first'" @click="changes.lookInPassage(!song.song?.look_in_passage)"
      >
        {{ song.song?.look_in_passage ? "in the passage" : "whole track" }}
      </button>
    </header>
    <ul ref="list" :class="{ short: findings.chosen }">
      <li v-for="f in findings.open" :key="f.id" :class="{ chosen: f.id === findings.chosenId, own: f.document.kind === OWN_TONE }">
        <button type="button" class="row" :aria-current="f.id === findings.chosenId" @click="findings.choose(f.id)">
          <svg viewBox="0 0 12 12" aria-hidden="true"><path :d="SHAPES[figureOf(f.document.kind)]" /></svg>
          <span>{{ f.document.kind }}</span>
          <span class="figure right">{{ view.place(f.document.frequency_hz) }}</span>
          <span class="figure right over">{{ signed(f.document.excess_db, 0) }} dB</span>
          <span v-if="f.document.kind === OWN_TONE" class="right soft" title="a tone of the instrument or the room: no fault, cut it if it bothers you">no fault</span>
          <span v-else class="figure right soft" :title="`${percent(f.document.confidence)} % of findings like this one are real`">{{ percent(f.document.confidence) }} %</span>
        </button>
      </li>
      <li v-for="f in findings.decided" :key="f.id" class="done">
        <span class="row">
          <svg viewBox="0 0 12 12" aria-hidden="true"><path :d="SHAPES[figureOf(f.document.kind)]" /></svg>
          <span>{{ f.document.kind }}</span>
          <span class="figure right">{{ view.place(f.document.frequency_hz) }}</span>
          <span class="right">{{ f.state === "rejected" ? "no problem" : f.left_db === null ? "cut" : `${signed(f.left_db, 0)} dB left` }}</span>
        </span>
        <button type="button" class="plain small quiet" :aria-label="`Take back: ${f.document.kind} ${writeHz(f.document.frequency_hz)} Hz`" @click="findings.reopen(f.id)">Back</button>
      </li>
    </ul>
    <p v-if="!findings.all.length && !findings.looking" class="soft none">
      {{ findings.found?.fresh ? "Nothing stands out. Sweep with the probe to make sure." : "Not looked at yet." }}
    </p>
    <p v-if="findings.onRequest && findings.found && !findings.found.fresh && !findings.looking" class="soft none">
      What reaches it has changed. <button type="button" class="plain small" @click="findings.look">Look again</button>
    </p>

    <FindingCard v-if="findings.chosen" :finding="findings.chosen" />
  </section>
</template>

<style scoped>
.findings { display: flex; flex-direction: column; gap: 4px; padding: 7px 12px 5px; min-height: 0; border-bottom: 1px solid var(--line); }
header { display: flex; align-items: baseline; gap: 8px; font-size: 12px; }
header > :nth-child(2) { margin-left: auto; }
ul { list-style: none; margin: 0; padding: 0; border-top: 1px solid var(--line); overflow: auto; min-height: 54px; flex: 0 1 auto; }
ul.short { max-height: 132px; }
li { display: flex; border-bottom: 1px solid var(--line); align-items: center; }
li.chosen { background: var(--paper); box-shadow: inset 3px 0 0 var(--stand-out); }
li.done { color: var(--soft); }
li.own { color: var(--soft); }
li.own .over { color: inherit; }
li.own svg { fill: none; stroke: var(--stand-out); }
li:not(.own) + li.own { border-top: 1px solid var(--soft); }
.row {
  flex: 1; display: grid; grid-template-columns: 14px 62px 1fr 56px 46px; gap: 6px; align-items: center; border: 0; background: none; color: inherit;
  font: inherit; font-size: 12px; line-height: 15px; padding: 3px 6px; text-align: left; cursor: pointer; white-space: nowrap;
}
li.done .row { cursor: default; grid-template-columns: 14px 62px 1fr 84px; }
.row .figure { font-size: 11.5px; }
.right { text-align: right; }
.over { color: var(--stand-out); }
svg { width: 12px; height: 12px; fill: var(--stand-out); }
li.done svg { fill: none; stroke: var(--soft); }
.none { margin: 2px 0; }
</style>
