/** What stands out in the track on the bench: the list, the chosen one, what is decided. */

import { useQuery } from "@tanstack/vue-query";
import { useLocalStorage } from "@vueuse/core";
import { defineStore } from "pinia";
import { computed, ref, shallowRef, watch } from "vue";
import { type Finding, type Findings, api, ask } from "../api/client";
import { cache } from "../data/cache";
import { findingsQuery, names } from "../data/queries";
import { valueAt } from "../lib/axis";
import { complain } from "../lib/complain";
import type { Way } from "../lib/findings";
import type { Move } from "../lib/moves";
import { useLive } from "../live/session";
import { useBench } from "./bench";
import { useChanges } from "./changes";
import { moveOf, proposed, useHearing } from "./hearing";
import { useProbe } from "./probe";
import { useSong } from "./song";
import { useTasks } from "./tasks";
import { useView } from "./view";

/** The looped stretch around the place where a finding is worst. */
const AROUND_S = 4;

export const useFindings = defineStore("findings", () => {
  const song = useSong();
  const changes = useChanges();
  const tasks = useTasks();
  const live = useLive();
  const bench = useBench();
  const view = useView();
  const probe = useProbe();
  const hearing = useHearing();

  const query = useQuery(computed(() => findingsQuery(song.id, bench.trackId)), cache);
  const found = computed(() => query.data.value ?? null);
  const chosenId = ref<number | null>(null);
  /** The proposed move while its values are being changed, before anything is accepted. */
  const draft = shallowRef<Move | null>(null);
  /** Whether findings pull the probe. */
  const pull = useLocalStorage("mivlo.pull", true);

  const all = computed<readonly Finding[]>(() => found.value?.findings ?? []);
  const open = computed(() => all.value.filter((f) => f.state === "open"));
  const decided = computed(() => all.value.filter((f) => f.state !== "open"));
  const chosen = computed(() => all.value.find((f) => f.id === chosenId.value) ?? null);
  const looking = computed(() => tasks.lookingAt(bench.track?.name));

  /** Groups and the mix change with every fader below them: they are looked at when they are opened, or on request. */
  const onRequest = computed(() => bench.track !== null && bench.track.kind !== "track");

  async function look(): Promise<void> {
    const path = { song_id: song.id, track_id: bench.trackId ?? 0 };
    try {
      const told = await ask(api.POST("/api/songs/{song_id}/tracks/{track_id}/look", { params: { path } }));
      cache.setQueryData(names.findings(path.song_id, path.track_id), told);
      await tasks.refresh();
    } catch (problem) {
      complain(problem);
    }
  }

  watch(() => bench.trackId, leave);
  watch(() => (onRequest.value ? bench.trackId : null), (id) => void (id !== null && look()), { immediate: true });
  // spots that stand out pull the probe
  watch([open, pull], () => {
    probe.spots = pull.value ? open.value.map(({ document: d }) => ({ hz: d.frequency_hz, octaves: d.bandwidth_oct })) : [];
  }, { immediate: true });
  watch(() => bench.chosen, (move) => move !== null && leave());

  const hear = (way: Way) => hearing.hear(way, chosen.value, draft.value);

  // --- choosing ---

  /** The passage jumps to where it is worst, for this listener only. */
  function choose(id: number): void {
    const heard = hearing.way;
    hearing.quiet();
    draft.value = null;
    chosenId.value = id;
    const d = chosen.value?.document;
    if (!d) return;
    bench.chosen = null;
    probe.moveLine(d.frequency_hz);
    const [from = Math.max(0, d.worst_s - AROUND_S / 2), to = d.worst_s + AROUND_S / 2] = d.loop_s;
    live.setPassage(from, to);
    live.seek(from);
    if (d.worst_s < view.times.from || d.worst_s > view.times.to) {
      const span = view.times.to - view.times.from;
      const start = Math.max(0, Math.min(d.worst_s - span / 2, (song.song?.duration_s ?? 0) - span));
      view.times = { from: start, to: start + span };
    }
    if (heard) hear(heard);
  }

  /** Choose none; the listener's passage is the song's again. */
  function leave(): void {
    if (chosenId.value === null) return;
    hearing.quiet();
    draft.value = null;
    chosenId.value = null;
    live.setPassage(view.passage?.from ?? null, view.passage?.to ?? null);
  }

  function step(by: number): void {
    const list = open.value;
    if (!list.length) return;
    const i = list.findIndex((f) => f.id === chosenId.value);
    const next = list[i < 0 ? (by > 0 ? 0 : list.length - 1) : (i + by + list.length) % list.length];
    if (next) choose(next.id);
  }

  // --- changing the proposal ---

  /** Change the proposed values before anything is made, hearing them; again: give it up. */
  function adjust(): void {
    const finding = chosen.value;
    if (finding?.state !== "open") return;
    const heard = hearing.way;
    hearing.quiet();
    draft.value = draft.value ? null : proposed(finding);
    if (draft.value) hear(heard === "removed" ? heard : "without");
    else if (heard) hear(heard);
  }

  /** Cut only what rings on, or all of it again. */
  function onlyTail(): void {
    const finding = chosen.value;
    const tail = finding?.document.tail;
    if (finding?.state !== "open" || !tail) return;
    hearing.quiet();
    draft.value = draft.value?.mode === "dynamic" ? null : moveOf(tail);
    hear("without");
  }

  function tweak(values: Partial<Move>): void {
    if (!draft.value) return;
    draft.value = { ...draft.value, ...values };
    hearing.follow(draft.value);
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
    const track = bench.trackId;
    if (!finding || finding.state !== "open" || track === null) return;
    const { id } = finding;
    const heard = hearing.way;
    const list = open.value;
    const after = list[list.findIndex((f) => f.id === id) + 1] ?? list.find((f) => f.id !== id);
    hearing.quiet();
    if (!(await act(id))) return;
    // until the server's list is here
    cache.setQueryData<Findings>(names.findings(song.id, track), (now) =>
      now && { ...now, findings: now.findings.map((f) => (f.id === id && f.state === "open" ? { ...f, state: "accepted" } : f)) },
    );
    if (!after) {
      leave();
    } else {
      choose(after.id);
      if (heard) hear(heard);
    }
  }

  const accept = () => decide((id) => changes.acceptFinding(id, draft.value));
  const reject = () => decide(changes.rejectFinding);
  const reopen = (id: number) => changes.reopenFinding(id);

  // --- evidence under the pointer ---

  /** What the last look says of a frequency; null where it says nothing. */
  function at(hz: number): { excess: number; share: number; fixed: number; ring: number } | null {
    const along = found.value?.along;
    if (!along || hz < (along.hz[0] ?? 0) || hz > (along.hz.at(-1) ?? 0)) return null;
    const read = (values: number[]) => valueAt(along.hz, values, hz) ?? 0;
    const nearest = Math.round(Math.log2(hz / (along.hz[0] ?? 1)) * 12);
    return { excess: read(along.excess_db), share: read(along.share), fixed: read(along.fixed_db), ring: along.ring_ms[nearest] ?? 0 };
  }

  return { onRequest, look, found, all, open, decided, chosen, chosenId, draft, pull, looking, choose, leave, step, hear, adjust, onlyTail, tweak, accept, reject, reopen, at };
});
