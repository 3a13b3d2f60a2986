<script setup lang="ts">
/** One track: ruler, time map, profile and treatment side by side on one frequency axis. */
import { useElementSize } from "@vueuse/core";
import { computed, onBeforeUnmount, ref, watch } from "vue";
import { useRoute, useRouter } from "vue-router";
import FrequencyLine from "../components/bench/FrequencyLine.vue";
import FindingList from "../components/bench/FindingList.vue";
import MapPanel from "../components/bench/MapPanel.vue";
import MoveList from "../components/bench/MoveList.vue";
import ProbeBar from "../components/bench/ProbeBar.vue";
import ProfilePanel from "../components/bench/ProfilePanel.vue";
import RulerPanel from "../components/bench/RulerPanel.vue";
import TreatmentPanel from "../components/bench/TreatmentPanel.vue";
import { WHOLE, zoomFrequency, zoomTime } from "../lib/axis";
import { WAYS } from "../lib/findings";
import { useKeys } from "../lib/keys";
import { useLive } from "../live/session";
import { useBench } from "../stores/bench";
import { useFindings } from "../stores/findings";
import { useSong } from "../stores/song";

const song = useSong();
const live = useLive();
const bench = useBench();
const findings = useFindings();
const route = useRoute();
const router = useRouter();
const panels = ref<HTMLElement | null>(null);
const mapBox = ref<HTMLElement | null>(null);
const { height } = useElementSize(panels);
const { width: mapWidth } = useElementSize(mapBox);
const mapLeft = computed(() => (mapWidth.value ? (mapBox.value?.offsetLeft ?? 0) : 0));

watch(
  [() => route.params.track, () => song.tracks],
  () => {
    const wanted = Number(route.params.track);
    const found = song.tracks.find((t) => t.id === wanted) ?? song.tracks.find((t) => t.id === bench.trackId) ?? song.tracks[0];
    if (!found) return void (bench.trackId = null);
    if (found.id !== wanted) void router.replace({ name: "bench", params: { track: found.id } });
    bench.look(found.id);
  },
  { immediate: true },
);
watch([() => bench.trackId, () => live.connected], () => live.connected && live.setFocus(bench.trackId), { immediate: true });
onBeforeUnmount(() => {
  findings.leave();
  bench.endProbe();
});

function go(by: number): void {
  const i = song.tracks.findIndex((t) => t.id === bench.trackId);
  const next = song.tracks[i + by];
  if (next) void router.push({ name: "bench", params: { track: next.id } });
}

const step = (octaves: number) => bench.moveLine((bench.line ?? 1000) * 2 ** octaves);
const chosen = (act: (id: number) => unknown) => () => void (bench.chosen !== null && act(bench.chosen));
const end = () => song.song?.duration_s ?? 1;
const middle = () => bench.lineTime ?? (bench.times.from + bench.times.to) / 2;

useKeys([
  { group: "Probe", keys: ["p"], says: "hold: probe at the line", act: () => bench.startProbe(bench.line ?? 1000), release: () => bench.releaseProbe() },
  { group: "Probe", keys: ["l"], says: "latch the probe, hands free", act: () => bench.toggleLatch() },
  { group: "Probe", keys: ["b"], says: "boost, alone or cut", act: () => (bench.probe.mode = ({ boost: "alone", alone: "cut", cut: "boost" } as const)[bench.probe.mode]) },
  { group: "Probe", keys: ["["], says: "narrower (or the wheel over the profile)", act: () => bench.widenProbe(1 / 1.15) },
  { group: "Probe", keys: ["]"], says: "wider", act: () => bench.widenProbe(1.15) },
  { group: "Probe", keys: ["ArrowUp"], says: "line up by 1/48 octave", act: () => step(1 / 48) },
  { group: "Probe", keys: ["ArrowDown"], says: "line down by 1/48 octave", act: () => step(-1 / 48) },
  { group: "Probe", keys: ["Shift+ArrowUp"], says: "line up by 5 cents", act: () => step(1 / 240) },
  { group: "Probe", keys: ["Shift+ArrowDown"], says: "line down by 5 cents", act: () => step(-1 / 240) },
  { group: "Probe", keys: ["g"], says: "findings pull the probe or not", act: () => (findings.pull = !findings.pull) },
  { group: "Findings", keys: ["f"], says: "next finding", act: () => findings.step(1) },
  { group: "Findings", keys: ["Shift+f"], says: "finding before", act: () => findings.step(-1) },
  ...WAYS.map(({ way, key, says }) => ({ group: "Findings", keys: [key], says, act: () => findings.hear(way) })),
  { group: "Findings", keys: ["y"], says: "accept: make the proposed move", act: () => void findings.accept() },
  { group: "Findings", keys: ["j"], says: "change the proposed values first, Enter accepts", act: () => findings.adjust() },
  { group: "Findings", keys: ["x"], says: "not a problem", act: () => void findings.reject() },
  { group: "Findings", keys: ["Escape"], says: "leave the finding", act: () => findings.leave() },
  { group: "Moves", keys: ["c"], says: "cut where the line is", act: () => void bench.cutAtLine() },
  { group: "Moves", keys: ["e"], says: "chosen move on or off", act: chosen((id) => bench.saveMove(id, { enabled: !bench.chosenMove?.enabled })) },
  { group: "Moves", keys: ["h"], says: "hear the chosen move alone", act: chosen((id) => live.hearOnly(live.state.only.includes(id) ? [] : [id])) },
  { group: "Moves", keys: ["d"], says: "duplicate the chosen move", act: chosen(bench.duplicate) },
  { group: "Moves", keys: ["Delete", "Backspace"], says: "delete the chosen move", act: chosen(bench.remove) },
  { group: "Moves", keys: ["n"], says: "choose the next move", act: () => {
      const i = bench.moves.findIndex((m) => m.id === bench.chosen);
      bench.chosen = bench.moves[(i + 1) % Math.max(1, bench.moves.length)]?.id ?? null;
    } },
  { group: "View", keys: ["v"], says: "passage or whole song", act: () => (bench.mapWhole = !bench.mapWhole) },
  { group: "View", keys: ["w"], says: "time map before or after treatment", act: () => (bench.mapTreated = !bench.mapTreated) },
  { group: "View", keys: ["+"], says: "closer in time", act: () => (bench.times = zoomTime(bench.times, middle(), 1.5, end())) },
  { group: "View", keys: ["-"], says: "farther in time", act: () => (bench.times = zoomTime(bench.times, middle(), 1 / 1.5, end())) },
  { group: "View", keys: [">"], says: "closer in frequency", act: () => (bench.frequencies = zoomFrequency(bench.frequencies, bench.line ?? 640, 1.5)) },
  { group: "View", keys: ["<"], says: "farther in frequency", act: () => (bench.frequencies = zoomFrequency(bench.frequencies, bench.line ?? 640, 1 / 1.5)) },
  { group: "View", keys: ["0"], says: "show all", act: () => { bench.frequencies = WHOLE; bench.showTimes(); } },
  { group: "View", keys: ["Ctrl+ArrowDown"], says: "next track", act: () => go(1) },
  { group: "View", keys: ["Ctrl+ArrowUp"], says: "track before", act: () => go(-1) },
]);
</script>

<template>
  <main class="bench">
    <aside aria-label="Tracks of the song">
      <h2 class="caption">Tracks</h2>
      <RouterLink
        v-for="t in song.tracks" :key="t.id" class="track" :class="{ here: t.id === bench.trackId }"
        :to="{ name: 'bench', params: { track: t.id } }" :aria-current="t.id === bench.trackId ? 'page' : undefined"
      >
        <span>{{ t.name }}</span>
        <span class="counts">
          <span v-if="t.open_findings" class="count open figure" :title="`${t.open_findings} findings to decide`">{{ t.open_findings }}</span>
          <span v-if="t.moves.length" class="count figure" :title="`${t.moves.length} moves`">{{ t.moves.length }}</span>
        </span>
      </RouterLink>
    </aside>
    <section v-if="bench.track" class="middle">
      <div class="head">
        <h1>{{ bench.track.name }}</h1>
        <span class="soft">{{ bench.track.channels === 1 ? "mono" : "stereo" }} · {{ bench.track.role }}</span>
        <ProbeBar />
      </div>
      <div class="titles soft">
        <span class="hz">Hz</span>
        <span class="maptitle">
          Time map
          <button type="button" class="plain small" :aria-pressed="bench.mapWhole" @click="bench.mapWhole = !bench.mapWhole">{{ bench.mapWhole ? "whole song" : "passage" }}</button>
          <button type="button" class="plain small" :aria-pressed="bench.mapTreated" @click="bench.mapTreated = !bench.mapTreated">{{ bench.mapTreated ? "treated" : "untreated" }}</button>
        </span>
        <span>Profile <span class="unit">dB per 1/24 oct</span></span>
        <span>Treatment <span class="unit">dB</span></span>
      </div>
      <div ref="panels" class="panels">
        <RulerPanel />
        <div ref="mapBox" class="cell"><MapPanel /></div>
        <ProfilePanel />
        <TreatmentPanel />
        <FrequencyLine :height="height" :map-width="mapWidth" :map-left="mapLeft" />
      </div>
      <div class="legend soft">
        <span><i class="key grey" /> untreated</span><span><i class="key green" /> treated, treatment</span>
        <span><i class="key dots" /> playing now</span><span><i class="key ochre" /> line and width of the probe</span>
        <span><i class="key red" /> stands out</span>
      </div>
    </section>
    <section v-else class="middle empty">
      <p>There is no track in this song yet. <RouterLink :to="{ name: 'tracks' }">Bring some in</RouterLink>.</p>
    </section>
    <div v-if="bench.track" class="right">
      <FindingList />
      <MoveList />
    </div>
  </main>
</template>

<style scoped>
.bench { display: grid; grid-template-columns: 142px 1fr 312px; min-height: 0; height: 100%; }
aside { background: var(--panel); border-right: 1px solid var(--line); padding: 12px 0; overflow: auto; }
aside h2 { padding: 0 14px 6px; }
.track { display: flex; justify-content: space-between; padding: 6px 12px 6px 11px; color: var(--ink); text-decoration: none; border-left: 3px solid transparent; }
.track:hover { background: var(--paper); }
.track.here { background: var(--probe-soft); border-left-color: var(--stand-out); font-weight: 600; }
.count { font-size: 11px; color: var(--treat); border: 1px solid var(--treat); border-radius: 2px; padding: 0 4px; background: var(--panel); }
.counts { display: flex; gap: 3px; align-items: center; }
.count.open { color: var(--stand-out); border-color: transparent; background: none; font-weight: 600; }
.middle { display: flex; flex-direction: column; padding: 8px 12px 6px 6px; min-width: 0; min-height: 0; }
.empty { align-items: center; justify-content: center; }
.head { display: flex; align-items: center; gap: 10px; margin-left: 42px; flex-wrap: wrap; }
.head h1 { font-size: 17px; }
.head .probe { margin-left: auto; }
.titles, .panels { display: grid; grid-template-columns: 44px minmax(180px, 1fr) minmax(150px, 190px) minmax(150px, 190px); gap: 0 8px; }
.titles { font-size: 12px; padding: 7px 0 4px; align-items: end; }
.hz { text-align: right; padding-right: 10px; }
.maptitle { display: flex; gap: 6px; align-items: center; }
.unit { font-size: 10.5px; }
.panels { position: relative; flex: 1; min-height: 0; }
.panels > * { min-height: 0; min-width: 0; height: 100%; }
.cell { overflow: hidden; }
.legend { display: flex; gap: 18px; font-size: 11px; padding: 5px 0 0 52px; }
.key { display: inline-block; width: 14px; height: 8px; margin-right: 4px; }
.grey { background: var(--grey); }
.green { border-top: 2px solid var(--treat); height: 3px; vertical-align: middle; }
.dots { border-top: 2px dotted var(--soft); height: 3px; vertical-align: middle; }
.ochre { background: var(--probe); opacity: 0.5; }
.red { background: var(--stand-out); }
.right { display: grid; grid-template-columns: minmax(0, 1fr); grid-template-rows: minmax(0, auto) minmax(140px, 1fr); background: var(--panel); border-left: 1px solid var(--line); min-height: 0; }
</style>
