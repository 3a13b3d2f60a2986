<script setup lang="ts">
/** One track, a group or the mix: ruler, time map, profile and treatment side by side on one frequency axis. */
import { useElementSize } from "@vueuse/core";
import { nextTick, onBeforeUnmount, ref, watch } from "vue";
import { useRoute, useRouter } from "vue-router";
import ReadoutBar from "../components/bench/line/ReadoutBar.vue";
import FrequencyLine from "../components/bench/line/FrequencyLine.vue";
import FindingList from "../components/bench/findings/FindingList.vue";
import AlikeBar from "../components/bench/map/AlikeBar.vue";
import LevelPicture from "../components/bench/map/LevelPicture.vue";
import MapPanel from "../components/bench/map/MapPanel.vue";
import LevelsLine from "../components/bench/LevelsLine.vue";
import MoveList from "../components/bench/moves/MoveList.vue";
import ProbeBar from "../components/bench/ProbeBar.vue";
import ProfilePanel from "../components/bench/ProfilePanel.vue";
import RulerPanel from "../components/bench/RulerPanel.vue";
import TreatmentPanel from "../components/bench/TreatmentPanel.vue";
import { zoomFrequency, zoomTime } from "../lib/axis";
import { WAYS } from "../lib/findings";
import { keyOf, useKeys } from "../lib/keys";
import { useLive } from "../live/session";
import { useBench } from "../stores/bench";
import { useCompanions } from "../stores/companions";
import { useFindings } from "../stores/findings";
import { useLevels } from "../stores/levels";
import { useSong } from "../stores/song";
import { useView } from "../stores/view";
import { useProbe } from "../stores/probe";

const song = useSong();
const live = useLive();
const bench = useBench();
const findings = useFindings();
const companions = useCompanions();
const levels = useLevels();
const view = useView();
const probe = useProbe();
const route = useRoute();
const router = useRouter();
const list = ref<HTMLElement | null>(null);
const panels = ref<HTMLElement | null>(null);
const { height } = useElementSize(panels);

watch(
  [() => route.params.track, () => song.strips],
  () => {
    const wanted = Number(route.params.track);
    const found = song.tracks.length ? (song.stripOf(wanted) ?? song.stripOf(bench.trackId) ?? song.tracks[0]) : null;
    if (!found) return bench.look(null);
    if (found.id !== wanted) void router.replace({ name: "bench", params: { track: found.id } });
    bench.look(found.id);
  },
  { immediate: true },
);
watch([() => bench.trackId, () => live.connected], () => live.connected && live.setFocus(bench.trackId), { immediate: true });
watch(() => bench.trackId, async () => {
  await nextTick();
  list.value?.querySelector("[aria-current=page]")?.scrollIntoView({ block: "nearest" });
});
onBeforeUnmount(() => {
  findings.leave();
  probe.end();
});

function go(by: number): void {
  const i = song.rows.findIndex((r) => r.strip.id === bench.trackId);
  const next = song.rows[i + by]?.strip;
  if (next) void router.push({ name: "bench", params: { track: next.id } });
}

const step = (octaves: number) => probe.moveLine((probe.line ?? 1000) * 2 ** octaves);
const chosen = (act: (id: number) => unknown) => () => void (bench.chosen !== null && act(bench.chosen));
const middle = () => probe.lineTime ?? (view.times.from + view.times.to) / 2;
const zoomT = (factor: number) => () => void (view.times = zoomTime(view.times, middle(), factor, song.duration));
const zoomF = (factor: number) => () => void (view.frequencies = zoomFrequency(view.frequencies, probe.line ?? 640, factor));
const NEXT_MODE = { boost: "alone", alone: "cut", cut: "boost" } as const;

useKeys({
  "probe.hold": { act: () => probe.start(probe.line ?? 1000), release: probe.release },
  "probe.latch": probe.toggleLatch,
  "probe.mode": () => (probe.values.mode = NEXT_MODE[probe.values.mode]),
  "probe.narrower": () => probe.widen(1 / 1.15),
  "probe.wider": () => probe.widen(1.15),
  "probe.up": () => step(1 / 48),
  "probe.down": () => step(-1 / 48),
  "probe.up.fine": () => step(1 / 240),
  "probe.down.fine": () => step(-1 / 240),
  "probe.pull": () => (findings.pull = !findings.pull),
  "finding.next": () => findings.step(1),
  "finding.before": () => findings.step(-1),
  ...Object.fromEntries(WAYS.map(({ way, key }) => [key, () => findings.hear(way)])),
  "finding.accept": () => void findings.accept(),
  "finding.adjust": findings.adjust,
  "finding.reject": () => void findings.reject(),
  "finding.leave": findings.leave,
  "probe.keep": () => void bench.keepAtLine(),
  "move.cut": () => void bench.cutAtLine(),
  "move.switch": chosen((id) => bench.saveMove(id, { enabled: !bench.chosenMove?.enabled })),
  "move.only": chosen((id) => live.hearOnly(live.state.only.includes(id) ? [] : [id])),
  "move.duplicate": chosen(bench.duplicate),
  "move.delete": chosen(bench.remove),
  "move.next": bench.chooseNext,
  "move.rungs": () => void bench.toggleRungs(),
  "view.whole": () => (view.mapWhole = !view.mapWhole),
  "view.treated": () => (view.mapTreated = !view.mapTreated),
  "view.readout": () => (view.readout = !view.readout),
  "view.notes": () => (view.notes = !view.notes),
  "view.closer": zoomT(1.5),
  "view.farther": zoomT(1 / 1.5),
  "view.higher": zoomF(1.5),
  "view.lower": zoomF(1 / 1.5),
  "view.all": view.showAll,
  "view.next": () => go(1),
  "view.before": () => go(-1),
});
</script>

<template>
  <main class="bench">
    <aside ref="list" aria-label="Tracks of the song" :class="{ dense: song.rows.length > 18 }">
      <h2 class="caption">Tracks</h2>
      <RouterLink
        v-for="{ strip: t, depth } in song.rows" :key="t.id" class="track" :class="[t.kind, { here: t.id === bench.trackId }]" :style="{ '--deeper': `${depth * 10}px` }"
        :to="{ name: 'bench', params: { track: t.id } }" :aria-current="t.id === bench.trackId ? 'page' : undefined"
      >
        <span>{{ t.name }}</span>
        <span class="counts">
          <button
            v-if="t.kind !== 'mix'" type="button" class="company" :class="{ marked: companions.marked.has(t.id) }" :aria-pressed="companions.marked.has(t.id)"
            :aria-label="`${t.name} is heard together with another`" :title="`heard with the track that is looked at (${keyOf('listen.alone')}: alone, together, in the mix)`" @click.prevent.stop="companions.mark(t.id)"
          >+</button>
          <span v-if="t.open_findings" class="count open figure" :title="`${t.open_findings} findings to decide`">{{ t.open_findings }}</span>
          <span v-if="t.moves.length" class="count figure" :title="`${t.moves.length} moves`">{{ t.moves.length }}</span>
        </span>
      </RouterLink>
    </aside>
    <section v-if="bench.track" class="middle">
      <div class="head">
        <h1>{{ bench.track.name }}</h1>
        <span class="soft">{{ bench.track.kind === "track" ? `${bench.track.channels === 1 ? "mono" : "stereo"} · ${bench.track.role}` : bench.track.kind === "group" ? "group" : "everything" }}</span>
        <ProbeBar />
      </div>
      <div class="titles soft">
        <span class="hz">{{ view.notes ? "note" : "Hz" }}</span>
        <span class="maptitle">
          Time map
          <button type="button" class="plain small" :aria-pressed="view.mapWhole" @click="view.mapWhole = !view.mapWhole">{{ view.mapWhole ? "whole song" : "passage" }}</button>
          <button type="button" class="plain small" :aria-pressed="view.mapTreated" @click="view.mapTreated = !view.mapTreated">{{ view.mapTreated ? "treated" : "untreated" }}</button>
        </span>
        <span>Profile <span class="unit">dB per 1/24 oct</span></span>
        <span class="lasttitle">
          <span>Treatment <button type="button" class="plain small reach" :title="view.reach ? `fixed at ${view.reach} dB either way; press for another` : 'opens at 12 dB and grows with the moves; press to fix it'" @click="view.nextReach()">{{ view.reach ? `±${view.reach} dB` : "dB" }}</button></span>
          <button type="button" class="plain small" :aria-pressed="view.readout" title="Write out what is read on the line, below the panels (Shift+W)" @click="view.readout = !view.readout">figures</button>
        </span>
      </div>
      <div ref="panels" class="panels">
        <RulerPanel />
        <div class="cell" :class="{ split: levels.move !== null }"><MapPanel /><AlikeBar /><LevelPicture v-if="levels.move !== null" class="levels" /></div>
        <ProfilePanel />
        <TreatmentPanel />
        <FrequencyLine :height="height" />
      </div>
      <div class="foot"><ReadoutBar /><LevelsLine /></div>
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
.track { display: flex; justify-content: space-between; padding: 6px 12px 6px calc(11px + var(--deeper)); color: var(--ink); text-decoration: none; border-left: 3px solid transparent; }
.track:hover { background: var(--paper); }
.dense .track { padding-top: 2px; padding-bottom: 2px; font-size: 12px; }
.track.group > :first-child, .track.mix > :first-child { font-weight: 600; }
.track.mix { border-top: 1px solid var(--line); margin-top: 4px; }
.track > :first-child { overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
.track.here { background: var(--probe-soft); border-left-color: var(--stand-out); font-weight: 600; }
.company { border: 0; background: none; color: var(--soft); font: inherit; font-size: 13px; line-height: 1; padding: 0; width: 0; overflow: hidden; cursor: pointer; }
.track:hover .company, .company:focus-visible, .company.marked { width: auto; padding: 0 3px; }
.company.marked { color: var(--on-ink); background: var(--ink); border-radius: 2px; }
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
.lasttitle { display: flex; justify-content: space-between; align-items: center; }
.unit { font-size: 10.5px; }
.reach { font-size: 10.5px; padding: 0 4px; }
.panels { position: relative; flex: 1; min-height: 0; }
.panels > * { min-height: 0; min-width: 0; height: 100%; }
.foot { display: flex; align-items: start; }
.foot > :first-child { flex: 1; min-width: 0; }
.foot > .levels { padding-top: 5px; }
.cell { overflow: hidden; position: relative; }
.cell.split > .levels { position: absolute; left: 0; right: 0; bottom: 0; height: 33%; border-top: 2px solid var(--treat); }
.right { display: grid; grid-template-columns: minmax(0, 1fr); grid-template-rows: minmax(0, auto) minmax(140px, 1fr); background: var(--panel); border-left: 1px solid var(--line); min-height: 0; }
</style>
