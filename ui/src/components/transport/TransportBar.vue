<script setup lang="ts">
/** Play, where, and what of it is heard. The same on every view. */
import { computed, ref, watch } from "vue";
import { signed, writeTime } from "../../lib/notes";
import { useLive } from "../../live/session";
import { useBench } from "../../stores/bench";
import { useChanges } from "../../stores/changes";
import { useSong } from "../../stores/song";
import WaveLane from "../WaveLane.vue";
import LevelMeter from "./LevelMeter.vue";
import { useView } from "../../stores/view";
import { useCompanions } from "../../stores/companions";
import { KEYMAP } from "../../lib/keymap";

const song = useSong();
const changes = useChanges();
const live = useLive();
const bench = useBench();
const view = useView();
const companions = useCompanions();
/** What is heard alone. */
const alone = computed(() => (bench.track?.kind === "group" ? "This group" : bench.track?.kind === "mix" ? "The mix alone" : "This track"));
const shownTrack = computed(() => bench.track ?? song.tracks[0] ?? null);

const signals = [
  { value: "treated", label: "Treated" },
  { value: "untreated", label: "Untreated" },
  { value: "removed", label: "Removed only" },
] as const;
/** Whether the limiter held something down since another side of the comparison was chosen: what was compared differs by it. */
const limited = ref(false);
watch(() => live.report.limiter_db < -0.1, (works) => works && (limited.value = true));
watch(() => live.state.playing, (playing) => playing && (limited.value = false));
/** What this listener loops, where it is another stretch than the song's passage. */
const around = computed(() => {
  const [own, saved] = [live.state.passage, view.passage];
  if (!own) return null;
  return saved && Math.abs(own[0] - saved.from) < 0.01 && Math.abs(own[1] - saved.to) < 0.01 ? null : own;
});
</script>

<template>
  <footer class="transport" aria-label="Listening">
    <button type="button" class="play" :aria-label="live.state.playing ? 'Pause' : 'Play'" data-test="play" :disabled="!live.connected || !song.tracks.length" @click="live.togglePlay()">
      <svg viewBox="0 0 24 24" aria-hidden="true"><path v-if="live.state.playing" d="M7 5h4v14H7zM13 5h4v14h-4z" /><path v-else d="M8 5l11 7-11 7z" /></svg>
    </button>
    <div class="place">
      <div class="figure now" data-test="position">{{ writeTime(live.position) }}</div>
      <div class="soft small">
        <template v-if="around">loop {{ writeTime(around[0]) }}–{{ writeTime(around[1]) }}</template>
        <template v-else-if="view.passage">passage {{ writeTime(view.passage.from, 0) }}–{{ writeTime(view.passage.to, 0) }}</template>
        <template v-else>whole song</template>
      </div>
      <button v-if="view.passage" type="button" class="plain small quiet" @click="changes.setPassage(null, null)">Clear passage</button>
    </div>
    <div class="wave" data-test="wave"><WaveLane v-if="shownTrack" :track="shownTrack" normalised /></div>
    <LevelMeter :peaks="live.report.peak_db" :height="70" />
    <div class="choices">
      <span class="soft">Hear</span>
      <span role="group" aria-label="Hear">
        <button type="button" class="plain" :aria-pressed="live.state.scope === 'alone' && !companions.together" :disabled="live.state.focus === null" @click="companions.hear('alone')">{{ alone }}</button>
        <button v-if="companions.others.length" type="button" class="plain" :aria-pressed="companions.together" :title="`with ${companions.names}`" @click="companions.hear('together')">With {{ companions.others.length }}</button>
        <button type="button" class="plain" :aria-pressed="live.state.scope === 'mix'" @click="companions.hear('mix')">In the mix</button>
      </span>
      <span class="soft">Signal</span>
      <span role="group" aria-label="Signal">
        <button v-for="s in signals" :key="s.value" type="button" class="plain" :aria-pressed="live.state.signal === s.value" @click="live.setSignal(s.value)">{{ s.label }}</button>
      </span>
      <span class="soft">Song</span>
      <span role="group" aria-label="Song">
        <button type="button" class="plain" :aria-pressed="live.state.bypassed" :title="`${KEYMAP['song.bypass'].says} (Q), as loud either way`" @click="live.setBypass(!live.state.bypassed)">
          All treatments off<span v-if="live.state.bypassed && live.state.matching" class="figure"> {{ signed(live.state.bypass_db, 1) }} dB</span>
        </button>
        <button type="button" class="plain" :aria-pressed="live.state.mono" :title="KEYMAP['listen.mono'].says" @click="live.setMonitor(!live.state.mono, live.state.dim)">Mono</button>
        <button type="button" class="plain" :aria-pressed="live.state.dim" :title="KEYMAP['listen.dim'].says" @click="live.setMonitor(live.state.mono, !live.state.dim)">Dim</button>
      </span>
      <span class="soft">Level</span>
      <span class="row">
        <button type="button" class="plain" :aria-pressed="live.state.matching" data-test="match" @click="live.setMatch(!live.state.matching)">
          <template v-if="live.state.matching && live.state.signal === 'removed' && live.state.removed_db">Lifted <span class="figure">{{ signed(live.state.removed_db, 1) }} dB</span></template>
          <template v-else>{{ live.state.matching ? "Matched" : "Match" }} <span class="figure">{{ signed(live.state.match_lu, 1) }} LU</span></template>
        </button>
        <span v-if="live.dropped" class="drop figure" role="status">{{ live.dropped }} dropped</span>
        <span v-if="live.report.limiter_db < -0.1" class="drop figure" role="status">limiter {{ signed(live.report.limiter_db, 1) }} dB</span>
        <span v-else-if="limited" class="drop" role="status" title="The loudest moments were held down while you compared: they do not compare fairly. Turn the song down.">limiter worked</span>
        <span v-if="!live.state.exact" class="soft" role="status" title="Until the past that still sounds here has been heard, this differs a little from the export.">settling</span>
        <span v-if="live.state.delay_ms > 120" class="drop figure" role="status" title="A change is heard so much later, for what lies behind it on its way.">changes after {{ Math.round(live.state.delay_ms) }} ms</span>
        <span v-if="!live.connected" class="drop" role="status">no connection</span>
      </span>
    </div>
  </footer>
</template>

<style scoped>
.transport {
  display: grid; grid-template-columns: 44px 128px 1fr 46px auto; gap: 14px; align-items: center; padding: 2px 18px;
  background: var(--panel); border-top: 1px solid var(--line); height: 116px;
}
.play { width: 40px; height: 40px; border: 0; border-radius: 50%; background: var(--ink); cursor: pointer; padding: 8px; }
.play:disabled { opacity: 0.4; }
.play svg { fill: var(--on-ink); display: block; }
.now { font-size: 18px; }
.place .small { font-size: 11px; }
.place button { padding-left: 0; font-size: 11px; text-decoration: underline; }
.wave { height: 84px; min-width: 0; }
.choices { display: grid; grid-template-columns: auto auto; gap: 3px 12px; align-items: center; font-size: 12px; }
.choices [role="group"], .choices .row { display: flex; gap: 4px; align-items: center; }
.drop { color: var(--stand-out); font-size: 12px; }
</style>
