<script setup lang="ts">
/** What stands out, most certain and most disturbing first; the chosen one with its evidence and what to do. */
import { nextTick, ref, watch } from "vue";
import { WAYS, figureOf, lookState, place, proposal, reasons } from "../../lib/findings";
import { hasGain } from "../../lib/moves";
import { signed, writeHz } from "../../lib/notes";
import { useBench } from "../../stores/bench";
import { useFindings } from "../../stores/findings";
import { useSong } from "../../stores/song";
import EvidencePicture from "./EvidencePicture.vue";
import MoveFields from "./MoveFields.vue";

const SHAPES = {
  narrow: "M0 6 L12 4.5 L12 7.5 Z",
  broad: "M0 6 C4 6 6 1 12 1 L12 11 C6 11 4 6 0 6 Z",
  moments: "M1 2 H3 V10 H1 Z M5.5 2 H7.5 V10 H5.5 Z M10 2 H12 V10 H10 Z",
  floor: "M0 11 H12 V7 L8 9 L4 7.5 L0 9 Z",
} as const;

const bench = useBench();
const song = useSong();
const findings = useFindings();
const list = ref<HTMLElement | null>(null);
const percent = (share: number) => Math.round(100 * share);

const card = ref<HTMLElement | null>(null);

watch(() => findings.draft !== null, async (changing) => {
  await nextTick();
  if (!changing) return;
  const fields = card.value?.querySelector(".fields");
  (fields?.querySelector<HTMLInputElement>("[aria-label^=Gain]") ?? fields?.querySelector("input"))?.focus();
});
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
        <template v-else>{{ findings.open.length }} open · {{ findings.decided.length }} decided</template>
      </span>
      <button
        type="button" class="plain small" :aria-pressed="song.song?.look_in_passage ?? false" :disabled="!bench.passage"
        :title="bench.passage ? 'Look in the passage only, or in the whole track' : 'Choose a passage first'" @click="song.lookInPassage(!song.song?.look_in_passage)"
      >
        {{ song.song?.look_in_passage ? "in the passage" : "whole track" }}
      </button>
    </header>
    <ul ref="list" :class="{ short: findings.chosen }">
      <li v-for="f in findings.open" :key="f.id" :class="{ chosen: f.id === findings.chosenId }">
        <button type="button" class="row" :aria-current="f.id === findings.chosenId" @click="findings.choose(f.id)">
          <svg viewBox="0 0 12 12" aria-hidden="true"><path :d="SHAPES[figureOf(f.document.kind)]" /></svg>
          <span>{{ f.document.kind }}</span>
          <span class="figure right">{{ writeHz(f.document.frequency_hz) }} Hz</span>
          <span class="figure right over">{{ signed(f.document.excess_db, 0) }} dB</span>
          <span class="figure right soft" :title="`${percent(f.document.confidence)} % of findings like this one are real`">{{ percent(f.document.confidence) }} %</span>
        </button>
      </li>
      <li v-for="f in findings.decided" :key="f.id" class="done">
        <span class="row">
          <svg viewBox="0 0 12 12" aria-hidden="true"><path :d="SHAPES[figureOf(f.document.kind)]" /></svg>
          <span>{{ f.document.kind }}</span>
          <span class="figure right">{{ writeHz(f.document.frequency_hz) }} Hz</span>
          <span class="right">{{ f.state === "rejected" ? "no problem" : f.left_db === null ? "cut" : `${signed(f.left_db, 0)} dB left` }}</span>
        </span>
        <button type="button" class="plain small quiet" :aria-label="`Take back: ${f.document.kind} ${writeHz(f.document.frequency_hz)} Hz`" @click="findings.reopen(f.id)">Back</button>
      </li>
    </ul>
    <p v-if="!findings.all.length && !findings.looking" class="soft none">
      {{ findings.found?.fresh ? "Nothing stands out. Sweep with the probe to make sure." : "Not looked at yet." }}
    </p>

    <div v-if="findings.chosen" ref="card" class="card panel" role="group" :aria-label="`Finding ${findings.chosen.document.kind}`" data-test="finding">
      <header>
        <strong>{{ findings.chosen.document.kind }}</strong>
        <span class="figure">{{ place(findings.chosen) }}</span>
      </header>
      <EvidencePicture :finding="findings.chosen" />
      <p class="why">
        {{ signed(findings.chosen.document.excess_db, 1) }} dB over its surroundings, {{ findings.chosen.document.bandwidth_oct.toFixed(2) }} oct wide.
        {{ reasons(findings.chosen).join(" ") }}
        <template v-if="findings.chosen.in_tracks > 1">In {{ findings.chosen.in_tracks }} tracks.</template>
      </p>
      <div class="ways" role="group" aria-label="Hear it">
        <button
          v-for="w in WAYS" :key="w.way" type="button" class="plain small" :aria-pressed="findings.way === w.way" :aria-keyshortcuts="w.key"
          :title="`${w.says} (${w.key})`" @click="findings.hear(w.way)"
        >
          {{ w.label }} <kbd>{{ w.key }}</kbd>
        </button>
      </div>
      <div v-if="findings.draft" class="fields" role="group" aria-label="The move that will be made">
        <MoveFields :move="findings.draft" @preview="findings.tweak" @change="findings.tweak" @enter="findings.accept()" @escape="findings.adjust()" />
      </div>
      <div v-if="findings.chosen.state === 'open'" class="decide">
        <button type="button" class="plain small accept" aria-keyshortcuts="y" title="make this move, go on to the next" @click="findings.accept()">
          Accept {{ findings.draft && hasGain(findings.draft.shape) ? `${signed(findings.draft.gain_db, 1)} dB` : proposal(findings.chosen) }} <kbd>Y</kbd>
        </button>
        <button type="button" class="plain small" aria-keyshortcuts="j" :aria-pressed="findings.draft !== null" title="change its values first, hearing them" @click="findings.adjust()">Adjust <kbd>J</kbd></button>
        <button type="button" class="plain small" aria-keyshortcuts="x" title="it stays away, also after a new analysis" @click="findings.reject()">No problem <kbd>X</kbd></button>
      </div>
    </div>
  </section>
</template>

<style scoped>
.findings { display: flex; flex-direction: column; gap: 6px; padding: 10px 12px 8px; min-height: 0; border-bottom: 1px solid var(--line); }
header { display: flex; align-items: baseline; gap: 8px; font-size: 12px; }
header > :nth-child(2) { margin-left: auto; }
ul { list-style: none; margin: 0; padding: 0; border-top: 1px solid var(--line); overflow: auto; min-height: 54px; flex: 0 1 auto; }
ul.short { max-height: 132px; }
li { display: flex; border-bottom: 1px solid var(--line); align-items: center; }
li.chosen { background: var(--paper); box-shadow: inset 3px 0 0 var(--stand-out); }
li.done { color: var(--soft); }
.row {
  flex: 1; display: grid; grid-template-columns: 14px 62px 1fr 56px 42px; gap: 6px; align-items: center; border: 0; background: none; color: inherit;
  font: inherit; font-size: 12px; padding: 4px 6px; text-align: left; cursor: pointer; white-space: nowrap;
}
li.done .row { cursor: default; grid-template-columns: 14px 62px 1fr 84px; }
.row .figure { font-size: 11.5px; }
.right { text-align: right; }
.over { color: var(--stand-out); }
svg { width: 12px; height: 12px; fill: var(--stand-out); }
li.done svg { fill: none; stroke: var(--soft); }
.none { margin: 2px 0; }
.card { padding: 6px 9px 8px; border-color: var(--stand-out); flex: none; }
.card header > :last-child { font-size: 11.5px; }
.why { margin: 4px 0 6px; font-size: 11.5px; line-height: 15.5px; }
.ways, .decide { display: flex; gap: 2px; }
.ways { margin-bottom: 5px; }
.ways .small, .decide .small { padding: 1px 3px; font-size: 11.5px; }
.ways .small { flex: 1; }
.fields { display: grid; grid-template-columns: 1.2fr 1fr 1fr; gap: 8px; margin-bottom: 6px; }
.accept { border-color: var(--treat); color: var(--treat); font-weight: 600; }
kbd { font: 10px var(--mono); border: 1px solid currentcolor; border-radius: 2px; padding: 0 2px; opacity: 0.75; margin-left: 1px; }
</style>
