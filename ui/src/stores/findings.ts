/** What stands out in the track on the bench: the list, the chosen one, how it is heard, what is decided. */

import { useLocalStorage } from "@vueuse/core";
import { defineStore } from "pinia";
import { computed, ref, shallowRef, watch } from "vue";
import { type Finding, type Findings, api, ask } from "../api/client";
import { valueAt } from "../lib/axis";
import type { Way } from "../lib/findings";
import type { Move } from "../lib/moves";
import { type Signal, useLive } from "../live/session";
import { useBench } from "./bench";
import { complain, useSong } from "./song";

/** Stands for the proposed move while it is only heard; no saved move has such a number. */
const PROPOSED = 4_000_000_000;
/** The looped stretch around the place where a finding is worst. */
const AROUND_S = 2;

export const useFindings = defineStore("findings", () => {
  const song = useSong();
  const live = useLive();
  const bench = useBench();

  const found = shallowRef<Findings | null>(null);
  const chosenId = ref<number | null>(null);
  const way = ref<Way | null>(null);
  /** The proposed move while its values are being changed, before anything is accepted. */
  const draft = shallowRef<Move | null>(null);
  /** Whether findings pull the probe. */
  const pull = useLocalStorage("mivlo.pull", true);

  const all = computed<readonly Finding[]>(() => found.value?.findings ?? []);
  const open = computed(() => all.value.filter((f) => f.state === "open"));
  const decided = computed(() => all.value.filter((f) => f.state !== "open"));
  const chosen = computed(() => all.value.find((f) => f.id === chosenId.value) ?? null);
  const looking = computed(() => song.lookingAt(bench.track?.name));

  let request = 0;
  async function load(): Promise<void> {
    const track = bench.trackId;
    if (track === null || !song.id) return;
    const mine = ++request;
    try {
      const path = { song_id: song.id, track_id: track };
      const answer = await ask(api.GET("/api/songs/{song_id}/tracks/{track_id}/findings", { params: { path } }));
      if (mine === request) found.value = answer;
    } catch (problem) {
      if (mine === request) complain(problem);
    }
  }

  watch(() => bench.trackId, () => {
    leave();
    found.value = null;
    void load();
  }, { immediate: true });
  watch([() => song.song?.revision, () => song.foundTold.count], () => void load());
  // spots that stand out pull the probe
  watch([open, pull], () => {
    bench.spots = pull.value ? open.value.map(({ document: d }) => ({ hz: d.frequency_hz, octaves: d.bandwidth_oct })) : [];
  }, { immediate: true });
  watch(() => bench.chosen, (move) => move !== null && leave());

  // --- hearing ---

  let before: Signal = "treated";
  /** The track whose moves the proposal is heard with; the bench may have gone on to another one meanwhile. */
  let heardOn: number | null = null;

  function quiet(): void {
    if (way.value === null) return;
    if (way.value === "boosted" || way.value === "alone") live.setProbe(null);
    else if (heardOn !== null) {
      if (way.value === "removed") {
        live.hearOnly([]);
        live.setSignal(before);
      }
      live.previewMoves(heardOn, null);
      heardOn = null;
    }
    way.value = null;
  }

  function hear(wanted: Way): void {
    const finding = chosen.value;
    const again = way.value === wanted;
    quiet();
    if (!finding || !bench.track || again) return;
    bench.endProbe();
    const d = finding.document;
    if (wanted === "boosted" || wanted === "alone") {
      if (live.state.signal === "removed") live.setSignal("treated");
      live.setProbe({
        frequency_hz: d.frequency_hz, octaves: Math.min(2, Math.max(0.05, d.bandwidth_oct)), gain_db: 12,
        margin_db: bench.probe.margin_db, mode: wanted === "boosted" ? "boost" : "alone",
      });
    } else {
      before = live.state.signal;
      heardOn = bench.track.id;
      live.previewMoves(bench.track.id, [...bench.track.moves, draft.value ?? proposed(finding)]);
      if (wanted === "removed") {
        live.hearOnly([PROPOSED]);
        live.setSignal("removed");
      } else if (live.state.signal !== "treated") live.setSignal("treated");
    }
    way.value = wanted;
    if (!live.state.playing) void live.togglePlay();
  }

  function proposed(finding: Finding): Move {
    // what is null does not belong to the shape: there the server's defaults hold
    const values = Object.fromEntries(Object.entries(finding.document.move).filter(([, value]) => value !== null));
    return { q: Math.SQRT1_2, gain_db: 0, slope_db_per_octave: 12, enabled: true, ...values, id: PROPOSED, octaves: 0 } as Move;
  }

  // --- choosing ---

  /** The passage jumps to where it is worst, for this listener only. */
  function choose(id: number): void {
    const heard = way.value;
    quiet();
    draft.value = null;
    chosenId.value = id;
    const d = chosen.value?.document;
    if (!d) return;
    bench.chosen = null;
    bench.moveLine(d.frequency_hz);
    const end = song.song?.duration_s ?? 0;
    const from = Math.max(0, Math.min(d.worst_s - AROUND_S / 2, end - AROUND_S));
    const to = Math.min(end, from + AROUND_S);
    live.setPassage(from, to);
    live.seek(from);
    if (d.worst_s < bench.times.from || d.worst_s > bench.times.to) {
      const span = bench.times.to - bench.times.from;
      const start = Math.max(0, Math.min(d.worst_s - span / 2, end - span));
      bench.times = { from: start, to: start + span };
    }
    if (heard) hear(heard);
  }

  /** Choose none; the listener's passage is the song's again. */
  function leave(): void {
    if (chosenId.value === null) return;
    quiet();
    draft.value = null;
    chosenId.value = null;
    live.setPassage(bench.passage?.from ?? null, bench.passage?.to ?? null);
  }

  function step(by: number): void {
    const list = open.value;
    if (!list.length) return;
    const i = list.findIndex((f) => f.id === chosenId.value);
    const next = list[i < 0 ? (by > 0 ? 0 : list.length - 1) : (i + by + list.length) % list.length];
    if (next) choose(next.id);
  }

  // --- changing the proposal ---

  /** Begin to change the proposed values, heard as they are changed; or back to what was proposed. */
  function adjust(): void {
    const finding = chosen.value;
    if (!finding || finding.state !== "open") return;
    const heard = way.value;
    quiet();
    draft.value = draft.value ? null : proposed(finding);
    if (draft.value) hear(heard === "removed" ? heard : "without");
    else if (heard) hear(heard);
  }

  function tweak(values: Partial<Move>): void {
    if (!draft.value || !bench.track) return;
    draft.value = { ...draft.value, ...values };
    if (way.value === "without" || way.value === "removed") live.previewMoves(bench.track.id, [...bench.track.moves, draft.value]);
  }

  // --- deciding ---

  let last: Promise<void> = Promise.resolve();

  /** Decisions follow each other: what is typed quickly meets the finding that has come up meanwhile. */
  function decide(act: (id: number) => Promise<boolean>): Promise<void> {
    last = last.then(() => decideNow(act));
    return last;
  }

  async function decideNow(act: (id: number) => Promise<boolean>): Promise<void> {
    const finding = chosen.value;
    if (!finding || finding.state !== "open") return;
    const { id } = finding;
    const heard = way.value;
    const list = open.value;
    const after = list[list.findIndex((f) => f.id === id) + 1] ?? list.find((f) => f.id !== id);
    quiet();
    if (!(await act(id))) return;
    const now = found.value;
    // until the server's list is here
    if (now) found.value = { ...now, findings: now.findings.map((f) => (f.id === id && f.state === "open" ? { ...f, state: "accepted" } : f)) };
    if (!after) {
      leave();
    } else {
      choose(after.id);
      if (heard) hear(heard);
    }
  }

  const accept = () => decide((id) => song.acceptFinding(id, draft.value));
  const reject = () => decide(song.rejectFinding);
  const reopen = (id: number) => song.reopenFinding(id);

  // --- evidence under the pointer ---

  /** What the last look says of a frequency; null where it says nothing. */
  function at(hz: number): { excess: number; share: number; fixed: number; ring: number } | null {
    const along = found.value?.along;
    if (!along || hz < (along.hz[0] ?? 0) || hz > (along.hz.at(-1) ?? 0)) return null;
    const read = (values: number[]) => valueAt(along.hz, values, hz) ?? 0;
    const nearest = Math.round(Math.log2(hz / (along.hz[0] ?? 1)) * 12);
    return { excess: read(along.excess_db), share: read(along.share), fixed: read(along.fixed_db), ring: along.ring_ms[nearest] ?? 0 };
  }

  return {
    found, all, open, decided, chosen, chosenId, way, draft, pull, looking,
    load, choose, leave, step, hear, quiet, adjust, tweak, accept, reject, reopen, at,
  };
});
