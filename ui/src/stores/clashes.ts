/** Who covers whom in the song: the list, the chosen clash, its proposed carve, and how they are heard. */

import { useQuery } from "@tanstack/vue-query";
import { useDebounceFn } from "@vueuse/core";
import { defineStore } from "pinia";
import { computed, ref, shallowRef, watch } from "vue";
import { type Clash, type Proposal, type Way, api, ask } from "../api/client";
import { cache } from "../data/cache";
import { clashesQuery, floorQuery, wholeSongQuery } from "../data/queries";
import { byTrack, columnsOf, idOf, isFolded, soundOf, wayOf } from "../lib/clashes";
import { complain } from "../lib/complain";
import { rowsOf } from "../lib/tree";
import type { Move } from "../lib/moves";
import { useLive } from "../live/session";
import { useChanges } from "./changes";
import { PROPOSED } from "./hearing";
import { useProbe } from "./probe";
import { useSong } from "./song";
import { useTasks } from "./tasks";
import { useView } from "./view";

export type Tab = "clashes" | "order" | "free" | "floor" | "harsh";
/** Moves that nobody has taken yet: low cuts, or what takes something of a pile on its group or its tracks. */
export type Tried = "floor" | "group" | "tracks";
/** Of a clash: its carve, what that takes, the range of one or of both. */
export type Sounding = "carve" | "removed" | "range" | "both";
export type Heard = Sounding | Tried | null;
const SETTLED_MS = 350;
const KNOB_MS = 250;
const AROUND_S = 8;
const ALWAYS_SHOWN = 5;

export const useClashes = defineStore("clashes", () => {
  const song = useSong();
  const view = useView();
  const live = useLive();
  const probe = useProbe();
  const changes = useChanges();
  const tasks = useTasks();

  /** The whole song, as it was last looked at; else the passage, which is computed at once. */
  const whole = ref(false);
  /** Whether somebody looks: nothing is computed before. */
  const open = ref(false);
  const tab = ref<Tab>("clashes");
  const unfolded = ref(false);
  /** The track that is looked at: columns and list show what it has to do with. */
  const trackId = ref<number | null>(null);
  /** The track that it is compared with alone. */
  const againstId = ref<number | null>(null);
  /** Groups whose tracks are shown; the others stand for them. */
  const opened = ref<number[]>([]);
  const folded = computed(() => song.groups.map((g) => g.id).filter((id) => !opened.value.includes(id)));
  const only = computed(() => (trackId.value !== null && againstId.value !== null ? [trackId.value, againstId.value] : []));
  const chosenId = ref<string | null>(null);
  const way = ref<Way>("covered");
  const mostDb = ref(4);
  const keyed = ref<boolean | null>(null);
  const freeId = ref<number | null>(null);
  const mostMoves = ref(4);
  /** Tracks that freeing one leaves alone. */
  const untouched = ref<number[]>([]);
  /** Whether low cuts may lie above the lowest note that a track plays. */
  const aboveNotes = ref(false);
  const proposal = shallowRef<Proposal | null>(null);
  /** Why there is no proposal. */
  const refusal = ref("");
  const searching = ref(false);
  const heard = ref<Heard>(null);

  // while something is dragged it is not computed again and again
  const sound = ref("");
  const settle = useDebounceFn(() => (sound.value = soundOf(song.song)), SETTLED_MS);
  watch(() => soundOf(song.song), (now) => (sound.value ? void settle() : (sound.value = now)), { immediate: true });

  const query = useQuery(computed(() => clashesQuery(song.id, view.passage, { folded: folded.value, only: only.value }, sound.value, open.value)), cache);
  const known = useQuery(computed(() => wholeSongQuery(song.id, sound.value, open.value && whole.value)), cache);
  const found = computed(() => (whole.value ? known.data.value?.clashes : query.data.value) ?? null);
  const stale = computed(() => sound.value !== soundOf(song.song) || (whole.value ? !known.data.value?.fresh : query.isFetching.value));
  const failed = computed(() => (whole.value ? known : query).error.value?.message ?? "");
  /** The task that looks at the whole song. */
  const surveying = computed(() => tasks.open.find((t) => t.kind === "survey") ?? null);
  const floors = useQuery(computed(() => floorQuery(song.id, view.passage, aboveNotes.value, sound.value, open.value && tab.value === "floor")), cache);

  const all = computed<readonly Clash[]>(() => {
    const list = found.value?.clashes ?? [];
    return trackId.value === null ? list : list.filter((c) => c.covered === trackId.value || c.by === trackId.value);
  });
  /** Where many tracks share what one loses, each takes little: the first ones stay in sight all the same. */
  const small = (c: Clash, i: number) => isFolded(c) && i >= ALWAYS_SHOWN;
  const shown = computed(() => (unfolded.value ? all.value : all.value.filter((c, i) => !small(c, i) || idOf(c) === chosenId.value)));
  const hidden = computed(() => all.value.filter(small).length);
  const chosen = computed(() => found.value?.clashes.find((c) => idOf(c) === chosenId.value) ?? null);
  const numberOf = (c: Clash) => shown.value.findIndex((x) => idOf(x) === idOf(c)) + 1;
  const columns = computed(() => columnsOf(
    rowsOf(song.strips).map((r) => r.strip.id).filter((id) => found.value?.tracks.some((t) => t.track_id === id)),
    found.value?.clashes ?? [], chosen.value?.covered ?? trackId.value,
  ));
  const nameOf = (id: number) => song.stripOf(id)?.name ?? "a track that is gone";
  const carves = computed(() => song.song?.strips.flatMap((s) => s.moves.filter((m) => m.links.includes("carve"))) ?? []);
  const carvesOn = computed(() => carves.value.some((m) => m.enabled));

  /** The one whose range is heard, and in whose favour a carve is made. */
  const keeper = computed(() => {
    if (tab.value === "free") return freeId.value;
    const c = chosen.value;
    return c && (way.value === "by" ? c.by : c.covered);
  });

  // --- hearing ---

  function quiet(): void {
    if (heard.value === "range") live.setProbe(null);
    else if (heard.value !== null) {
      if (heard.value === "removed") {
        live.hearOnly([]);
        live.setSignal("treated");
      }
      if (heard.value === "both") live.setCompanions([]);
      for (const id of previewed) live.previewMoves(id, null);
      previewed = [];
    }
    heard.value = null;
  }

  let previewed: number[] = [];

  /** Hear a strip with moves behind its own that nobody has taken yet. */
  function tryOn(id: number, moves: readonly Partial<Move>[]): void {
    const own = (song.stripOf(id)?.moves ?? []) as Move[];
    live.previewMoves(id, [...own, ...moves.map((m, i) => ({ ...m, id: PROPOSED + i }) as Move)]);
    previewed.push(id);
  }

  /** The range of both together: each behind two steep cuts, alone or with all the others as they are. */
  function hearBoth(c: Clash): void {
    const edge = { mode: "static", q: Math.SQRT1_2, gain_db: 0, slope_db_per_octave: 48, enabled: true, place: "behind", octaves: 0 } as const;
    const edges = [{ ...edge, shape: "low_cut", frequency_hz: c.from_hz }, { ...edge, shape: "high_cut", frequency_hz: c.to_hz }] as const;
    live.setFocus(c.covered);
    live.setCompanions([c.by]);
    for (const id of [c.covered, c.by]) tryOn(id, edges);
    live.setScope("alone");
  }

  /** Moves in the mix that nobody has taken yet, at most one a strip; the same again: without them. */
  function hearMoves(wanted: Tried, made: readonly { track_id: number; move: Partial<Move> }[]): void {
    const again = heard.value === wanted;
    quiet();
    if (again || !made.length) return;
    for (const { track_id, move } of made) tryOn(track_id, [move]);
    live.setScope("mix");
    heard.value = wanted;
    play();
  }

  function play(): void {
    if (!live.state.playing) void live.togglePlay();
  }

  /** Hear the proposed carve in the mix, what it removes, or the range alone; the same again: as it is. */
  function hear(wanted: Sounding, of: number | null = keeper.value): void {
    const again = heard.value === wanted && (wanted !== "range" || live.state.focus === of);
    quiet();
    if (again) return;
    const c = chosen.value;
    if (wanted === "both") {
      if (!c) return;
      hearBoth(c);
    } else if (wanted === "range") {
      if (!c || of === null) return;
      live.setFocus(of);
      const octaves = Math.min(2, Math.log2(c.to_hz / c.from_hz));
      live.setProbe({ frequency_hz: Math.sqrt(c.from_hz * c.to_hz), octaves, gain_db: 0, margin_db: probe.values.margin_db, mode: "alone" });
    } else {
      if (!proposal.value) return;
      for (const [id, moves] of byTrack(proposal.value)) tryOn(id, moves);
      const first = previewed[0];
      if (wanted === "removed" && first !== undefined) {
        live.setFocus(first);
        live.hearOnly((byTrack(proposal.value).get(first) ?? []).map((_, i) => PROPOSED + i));
        live.setSignal("removed");
      } else live.setScope("mix");
    }
    heard.value = wanted;
    play();
  }

  // --- choosing ---

  /** A phrase around its worst moment loops in the mix, at once. */
  function choose(c: Clash): void {
    quiet();
    chosenId.value = idOf(c);
    way.value = wayOf(c, decisions.value).way;
    probe.moveLine(Math.sqrt(c.from_hz * c.to_hz));
    const [from = 0, to = 0] = c.phrase;
    live.setFocus(c.covered);
    live.setScope("mix");
    live.setPassage(from, to);
    live.seek(from);
    play();
  }

  function leave(): void {
    quiet();
    if (chosenId.value !== null) live.setPassage(view.passage?.from ?? null, view.passage?.to ?? null);
    chosenId.value = null;
    proposal.value = null;
  }

  function step(by: number): void {
    const list = shown.value;
    const i = list.findIndex((c) => idOf(c) === chosenId.value);
    const next = list[i < 0 ? (by > 0 ? 0 : list.length - 1) : (i + by + list.length) % list.length];
    if (next) choose(next);
  }

  const decisions = computed(() => song.song?.decisions ?? []);
  const decided = computed(() => chosen.value !== null && wayOf(chosen.value, decisions.value).decided);

  /** Said once, it counts for this clash from then on, whatever the order says. */
  function decide(to: Way): void {
    if (!chosen.value || (to === way.value && decided.value)) return;
    way.value = to;
    void changes.decideClash(chosen.value, to);
  }

  async function undecide(): Promise<void> {
    const c = chosen.value;
    if (c && (await changes.decideClash(c, null))) way.value = wayOf(c, decisions.value).way;
  }

  const swap = () => decide(way.value === "covered" ? "by" : "covered");
  const order = computed(() => found.value?.order ?? []);
  /** Whose order that is: the passage's own, the song's, or by role. */
  const orderOf = computed(() => found.value?.order_of ?? "role");

  // --- proposals ---

  /** Where a proposal is tried: the passage, or around the worst moment of the whole song. */
  function spanOf(c: Clash | null): { from_s: number | null; to_s: number | null } {
    if (!whole.value || !c) return { from_s: view.passage?.from ?? null, to_s: view.passage?.to ?? null };
    const [from = 0, to = 0] = c.phrase;
    return { from_s: Math.max(0, (from + to) / 2 - AROUND_S), to_s: Math.min(song.duration, (from + to) / 2 + AROUND_S) };
  }

  async function lookAtAll(): Promise<void> {
    try {
      await ask(api.POST("/api/songs/{song_id}/clashes/song", { params: { path: { song_id: song.id } } }));
      await tasks.refresh();
    } catch (problem) {
      complain(problem);
    }
  }

  function turnWhole(): void {
    leave();
    whole.value = !whole.value;
  }

  /** Look at one track; at a second one: both against each other alone; again: at all. */
  function look(id: number): void {
    if (trackId.value === id) {
      trackId.value = againstId.value;
      againstId.value = null;
    } else if (trackId.value === null) trackId.value = id;
    else againstId.value = againstId.value === id ? null : id;
  }

  const lookAtNone = () => (trackId.value = againstId.value = null);

  function openGroup(id: number, shown: boolean): void {
    leave();
    lookAtNone();
    opened.value = [...opened.value.filter((x) => x !== id), ...(shown ? [id] : [])];
  }

  /** A carve is searched among the strips that the clash was found among; a survey of the whole song knows tracks only. */
  const unfoldedFor = (c: Clash | null) => (whole.value || !c ? [] : folded.value);

  let asked: AbortController | null = null;

  async function search(): Promise<void> {
    const was = heard.value;
    if (was === "carve" || was === "removed") quiet(); // of the proposal that goes
    asked?.abort();
    proposal.value = null;
    refusal.value = "";
    const c = chosen.value;
    const freeing = tab.value === "free";
    if (freeing ? freeId.value === null : !c || tab.value !== "clashes") return;
    const mine = (asked = new AbortController());
    const { signal } = mine;
    searching.value = true;
    const path = { song_id: song.id };
    const span = spanOf(freeing ? null : c);
    try {
      const made = freeing || !c
        ? await ask(api.POST("/api/songs/{song_id}/clashes/free", {
            params: { path }, signal, body: { ...span, folded: freeing ? [] : unfoldedFor(c), track_id: freeId.value ?? 0, max_cut_db: mostDb.value, most_moves: mostMoves.value, untouched: untouched.value },
          }))
        : await ask(api.POST("/api/songs/{song_id}/clashes/carve", {
            params: { path }, signal,
            body: { ...span, folded: unfoldedFor(c), covered: c.covered, by: c.by, from_hz: c.from_hz, to_hz: c.to_hz, way: way.value, max_cut_db: mostDb.value, keyed: keyed.value },
          }));
      if (signal.aborted) return;
      proposal.value = made;
      if (was === "carve" || was === "removed") hear(was);
    } catch (problem) {
      if (!signal.aborted) refusal.value = problem instanceof Error ? problem.message : String(problem);
    } finally {
      if (asked === mine) searching.value = false;
    }
  }

  const soon = useDebounceFn(() => void search(), KNOB_MS);
  watch([chosenId, way, keyed, mostDb, mostMoves, freeId, untouched, tab], () => open.value && void soon());

  /** The proposed moves become moves of their tracks, in one step. */
  async function accept(): Promise<void> {
    const made = proposal.value;
    if (!made) return;
    const label = tab.value === "free" ? `free ${nameOf(freeId.value ?? 0)}` : `carve for ${nameOf(keeper.value ?? 0)}`;
    quiet();
    proposal.value = null;
    if (!(await changes.acceptCarves(label, made.moves as { track_id: number; move: Move }[]))) void search();
  }

  const switchAll = () => carves.value.length > 0 && void changes.switchCarves(!carvesOn.value);

  function close(): void {
    leave();
    open.value = false;
  }

  return {
    open, whole, surveying, lookAtAll, turnWhole, tab, unfolded, trackId, chosenId, way, mostDb, keyed, freeId, mostMoves, untouched, aboveNotes, proposal, refusal, searching, heard, found, stale, failed,
    floors: floors.data, floorsPending: floors.isFetching, floorsFailed: computed(() => floors.error.value?.message ?? ""),
    all, shown, hidden, opened, openGroup, againstId, look, lookAtNone, chosen, columns, keeper, carves, carvesOn, nameOf, numberOf, hear, hearMoves, quiet, choose, leave, step, swap, decide, undecide, decided, order, orderOf, accept, switchAll, close,
  };
});
