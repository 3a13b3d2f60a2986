<script setup lang="ts">
/** The chosen finding: its evidence, the ways to hear it, what to do about it. */
import { computed, nextTick, ref, watch } from "vue";
import type { Finding } from "../../../api/client";
import { WAYS, place, proposal, reasons } from "../../../lib/findings";
import { KEYMAP } from "../../../lib/keymap";
import { keyOf } from "../../../lib/keys";
import { gainWords } from "../../../lib/moves";
import { signed } from "../../../lib/notes";
import { useLive } from "../../../live/session";
import { useAlike } from "../../../stores/alike";
import { useBench } from "../../../stores/bench";
import { useFindings } from "../../../stores/findings";
import { useHearing } from "../../../stores/hearing";
import MoveFields from "../moves/MoveFields.vue";
import EvidencePicture from "./EvidencePicture.vue";

const props = defineProps<{ finding: Finding }>();
const bench = useBench();
const live = useLive();
const findings = useFindings();
const alike = useAlike();
const hearing = useHearing();
const card = ref<HTMLElement | null>(null);

/** A cut is the finding's where its place is within a twelfth of an octave. */
const SAME_OCT = 1 / 12;
const back = computed(() => bench.profile?.comes_back.find((b) => Math.abs(Math.log2(b.frequency_hz / props.finding.document.frequency_hz)) < SAME_OCT) ?? null);

function more(finding: Finding): void {
  const { frequency_hz: hz, bandwidth_oct: octaves, moments } = finding.document;
  const [from = 0, to = 0] = moments[0] ?? [];
  const half = 2 ** (Math.max(octaves, 0.1) / 2);
  void alike.find({ from_hz: hz / half, to_hz: Math.min(hz * half, 20_000), from_s: from, to_s: Math.min(Math.max(to, from + 0.03), from + 2) });
}

watch(() => findings.draft !== null, async (changing) => {
  await nextTick();
  if (!changing) return;
  const fields = card.value?.querySelector(".fields");
  (fields?.querySelector<HTMLInputElement>("[aria-label^=Gain]") ?? fields?.querySelector("input"))?.focus();
});
</script>

<template>
  <div ref="card" class="card panel" role="group" :aria-label="`Finding ${finding.document.kind}`" data-test="finding">
    <header>
      <strong>{{ finding.document.kind }}</strong>
      <span class="figure">{{ place(finding) }}</span>
    </header>
    <EvidencePicture :finding="finding" />
    <p class="why">
      {{ signed(finding.document.excess_db, 1) }} dB over its surroundings, {{ finding.document.bandwidth_oct.toFixed(2) }} oct wide.
      {{ reasons(finding).join(" ") }}
      <template v-if="finding.in_tracks > 1">In {{ finding.in_tracks }} tracks. </template>
      <span v-if="finding.song_says" data-test="song-says">{{ finding.song_says }}</span>
      <strong v-if="back" class="back">Cut already, but what stands behind the moves brings it back by {{ back.db.toFixed(1) }} dB.</strong>
    </p>
    <div class="where">
      <span>Hear it</span>
      <span role="group" aria-label="Hear the finding">
        <button type="button" class="plain small" :aria-pressed="live.state.scope === 'alone'" @click="live.setScope('alone')">in this track</button>
        <button type="button" class="plain small" :aria-pressed="live.state.scope === 'mix'" @click="live.setScope('mix')">in the mix</button>
      </span>
      <kbd :title="KEYMAP['listen.alone'].says">{{ keyOf("listen.alone") }}</kbd>
      <button v-if="finding.document.moments.length" type="button" class="plain small more" title="look for all moments like the first of these" @click="more(finding)">More like it</button>
    </div>
    <div class="ways" role="group" aria-label="Hear it">
      <button
        v-for="w in WAYS" :key="w.way" type="button" class="plain small" :aria-pressed="hearing.way === w.way" :aria-keyshortcuts="keyOf(w.key)"
        :title="`${KEYMAP[w.key].says}, ${live.state.scope === 'mix' ? 'in the mix' : 'in this track alone'} (${keyOf(w.key)})`" @click="findings.hear(w.way)"
      >
        {{ w.label }} <kbd>{{ keyOf(w.key) }}</kbd>
      </button>
    </div>
    <div v-if="findings.draft" class="fields" role="group" aria-label="The move that will be made">
      <MoveFields :move="findings.draft" @preview="findings.tweak" @change="findings.tweak" @enter="findings.accept()" @escape="findings.adjust()" />
    </div>
    <div v-if="finding.state === 'open'" class="decide">
      <button type="button" class="plain small accept" aria-keyshortcuts="y" title="make this move, go on to the next" @click="findings.accept()">
        Accept {{ findings.draft && gainWords(findings.draft) ? gainWords(findings.draft) : proposal(finding) }} <kbd>Y</kbd>
      </button>
      <button type="button" class="plain small" aria-keyshortcuts="j" :aria-pressed="findings.draft !== null" title="change its values first, hearing them" @click="findings.adjust()">Adjust <kbd>J</kbd></button>
      <button
        v-if="finding.document.tail" type="button" class="plain small" :aria-pressed="findings.draft?.mode === 'dynamic'"
        title="cut only what rings on after a stroke; the stroke keeps it" @click="findings.onlyTail()"
      >
        Only its tail
      </button>
      <button type="button" class="plain small" aria-keyshortcuts="x" title="it stays away, also after a new analysis" @click="findings.reject()">No problem <kbd>X</kbd></button>
    </div>
  </div>
</template>

<style scoped>
.card { padding: 6px 9px 8px; border-color: var(--stand-out); flex: none; }
header { display: flex; align-items: baseline; gap: 8px; font-size: 12px; }
header > :last-child { margin-left: auto; font-size: 11.5px; }
.why { margin: 4px 0 6px; font-size: 11.5px; line-height: 15.5px; }
.where { white-space: nowrap; display: flex; gap: 6px; align-items: center; font-size: 11.5px; margin-bottom: 3px; }
.where [role="group"] { display: flex; gap: 2px; }
.where .small { padding: 0 4px; font-size: 11.5px; }
.where .more { margin-left: auto; }
.ways, .decide { display: flex; gap: 2px; flex-wrap: wrap; }
.ways { margin-bottom: 5px; }
.ways .small, .decide .small { padding: 1px 3px; font-size: 11.5px; }
.ways .small { flex: 1; }
.fields { display: grid; grid-template-columns: 1.2fr 1fr 1fr; gap: 8px; margin-bottom: 6px; }
.accept { border-color: var(--treat); color: var(--treat); font-weight: 600; }
kbd { margin-left: 1px; }
.back { color: var(--stand-out); font-weight: 500; }
</style>
