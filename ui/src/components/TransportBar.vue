<script setup lang="ts">
/** Play, where, and what of it is heard. The same on every view. */
import { computed } from "vue";
import { signed, writeTime } from "../lib/notes";
import { useLive } from "../live/session";
import { useBench } from "../stores/bench";
import { useSong } from "../stores/song";
import WaveLane from "./WaveLane.vue";

const song = useSong();
const live = useLive();
const bench = useBench();
const shownTrack = computed(() => bench.track ?? song.tracks[0] ?? null);

const signals = [
  { value: "treated", label: "Treated" },
  { value: "untreated", label: "Untreated" },
  { value: "removed", label: "Removed only" },
] as const;
const meter = (db: number) => `${Math.max(0, Math.min(100, ((db + 60) / 60) * 100))}%`;
/** What this listener loops, where it is another stretch than the song's passage. */
const around = computed(() => {
  const [own, saved] = [live.state.passage, bench.passage];
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
        <template v-else-if="bench.passage">passage {{ writeTime(bench.passage.from, 0) }}–{{ writeTime(bench.passage.to, 0) }}</template>
        <template v-else>whole song</template>
      </div>
      <button v-if="bench.passage" type="button" class="plain small quiet" @click="song.setPassage(null, null)">Clear passage</button>
    </div>
    <div class="wave" data-test="wave"><WaveLane v-if="shownTrack" :track="shownTrack" normalised /></div>
    <div class="meters" role="img" :aria-label="`Peak ${live.report.peak_db[0]} and ${live.report.peak_db[1]} dB`">
      <span v-for="(db, side) in live.report.peak_db" :key="side" class="meter"><i :style="{ height: meter(db) }" /></span>
    </div>
    <div class="choices">
      <span class="soft">Hear</span>
      <span role="group" aria-label="Hear">
        <button type="button" class="plain" :aria-pressed="live.state.scope === 'alone'" :disabled="live.state.focus === null" @click="live.setScope('alone')">This track</button>
        <button type="button" class="plain" :aria-pressed="live.state.scope === 'mix'" @click="live.setScope('mix')">In the mix</button>
      </span>
      <span class="soft">Signal</span>
      <span role="group" aria-label="Signal">
        <button v-for="s in signals" :key="s.value" type="button" class="plain" :aria-pressed="live.state.signal === s.value" @click="live.setSignal(s.value)">{{ s.label }}</button>
      </span>
      <span class="soft">Level</span>
      <span class="row">
        <button type="button" class="plain" :aria-pressed="live.state.matching" data-test="match" @click="live.setMatch(!live.state.matching)">
          {{ live.state.matching ? "Matched" : "Match" }} <span class="figure">{{ signed(live.state.match_lu, 1) }} LU</span>
        </button>
        <span v-if="live.dropped" class="drop figure" role="status">{{ live.dropped }} dropped</span>
        <span v-if="live.report.limiter_db < -0.1" class="drop figure">limiter {{ signed(live.report.limiter_db, 1) }} dB</span>
        <span v-if="!live.connected" class="drop" role="status">no connection</span>
      </span>
    </div>
  </footer>
</template>

<style scoped>
.transport {
  display: grid; grid-template-columns: 44px 128px 1fr 18px auto; gap: 14px; align-items: center; padding: 10px 18px;
  background: var(--panel); border-top: 1px solid var(--line); height: 116px;
}
.play { width: 40px; height: 40px; border: 0; border-radius: 50%; background: var(--ink); cursor: pointer; padding: 8px; }
.play:disabled { opacity: 0.4; }
.play svg { fill: var(--on-ink); display: block; }
.now { font-size: 18px; }
.place .small { font-size: 11px; }
.place button { padding-left: 0; font-size: 11px; text-decoration: underline; }
.wave { height: 84px; min-width: 0; }
.meters { display: flex; gap: 3px; height: 84px; }
.meter { width: 6px; background: var(--paper); border: 1px solid var(--line); position: relative; }
.meter i { position: absolute; bottom: 0; left: 0; right: 0; background: var(--ink); }
.choices { display: grid; grid-template-columns: auto auto; gap: 5px 12px; align-items: center; font-size: 12px; }
.choices [role="group"], .choices .row { display: flex; gap: 4px; align-items: center; }
.drop { color: var(--stand-out); font-size: 12px; }
</style>
