/** The bench: the track that is looked at, and its moves as they are shown and heard. */

import { useQuery } from "@tanstack/vue-query";
import { ElMessageBox } from "element-plus";
import { defineStore } from "pinia";
import { computed, ref, shallowRef } from "vue";
import type { Profile, StartName } from "../api/client";
import { cache } from "../data/cache";
import { foundAnew, profileQuery } from "../data/queries";
import { type Move, type NewMove, type Shape, followed, hasGain, hasSlope, qOfOctaves, togetherBy, valuesOf } from "../lib/moves";
import { USUAL } from "../lib/rungs";
import { writeHz } from "../lib/notes";
import { useLive } from "../live/session";
import { useChanges } from "./changes";
import { useProbe } from "./probe";
import { useSong } from "./song";
import { useView } from "./view";

/** A cut is made wider than the band that found it (common practice, no source). */
const CUT_WIDER = 1.5;
const CUT_DB = -6;
/** Where a move begins when there is no line. */
const USUAL_HZ: Partial<Record<Shape, number>> = { low_cut: 60, high_cut: 12_000, low_shelf: 150, high_shelf: 6_000 };

export const useBench = defineStore("bench", () => {
  const song = useSong();
  const changes = useChanges();
  const live = useLive();
  const view = useView();
  const probe = useProbe();

  const trackId = ref<number | null>(null);
  /** A track, a group or the mix. */
  const track = computed(() => song.stripOf(trackId.value));
  const arrives = computed(() => song.arrives(trackId.value));

  const chosen = ref<number | null>(null);
  /** Values of moves while one is dragged: heard, but not saved yet. */
  const dragged = shallowRef<Move[] | null>(null);
  /** Whether a move of a set, or a twin, is changed without the others. */
  const apart = ref(false);
  const moves = computed<readonly Move[]>(() => dragged.value ?? (track.value?.moves as Move[] | undefined) ?? []);
  const chosenMove = computed(() => moves.value.find((m) => m.id === chosen.value) ?? null);

  /** What the track sounds like, as a name: its recording, the moves that are on, and all that belongs to them. */
  const sound = computed(() => {
    const t = track.value;
    return { recording: arrives.value, moves: t?.moves.filter((m) => m.enabled), phase: t?.phase, amounts: t?.amounts, aftercare: t?.aftercare };
  });
  const profiled = useQuery(
    computed(() => ({
      ...profileQuery(song.id, track.value?.id ?? null, sound.value, view.passage),
      // the old curve of the same track stays until the new one is there
      placeholderData: (old: Profile | undefined, of?: { queryKey: readonly unknown[] }) => (of?.queryKey[3] === trackId.value ? old : undefined),
    })),
    cache,
  );
  const profile = computed(() => profiled.data.value ?? null);

  function look(id: number | null): void {
    if (trackId.value === id) return;
    probe.end();
    if (dragged.value && trackId.value !== null) live.previewMoves(trackId.value, null);
    trackId.value = id;
    apart.value = false;
    chosen.value = null;
    dragged.value = null;
  }

  // --- moves ---

  /** What is new on the track is chosen then. */
  async function added(make: (trackId: number) => Promise<boolean>): Promise<void> {
    if (!track.value) return;
    const known = new Set(track.value.moves.map((m) => m.id));
    if (await make(track.value.id)) chosen.value = track.value?.moves.find((m) => !known.has(m.id))?.id ?? null;
  }

  /** Ranges that must stay, in which a cut was asked for already. */
  const askedOf = new Set<string>();

  /** A cut in a range that must stay asks once. */
  async function mayCut(values: NewMove): Promise<boolean> {
    const hz = values.frequency_hz;
    const kept = track.value?.kept.find(([low, high]) => hz != null && hz >= low && hz <= high);
    const cuts = (values.gain_db ?? 0) < 0 || (values.range_db ?? 0) < 0 || values.shape === "notch";
    if (!kept || !cuts || askedOf.has(`${trackId.value} ${kept}`)) return true;
    const said = await ElMessageBox.confirm(`${writeHz(kept[0])} to ${writeHz(kept[1])} Hz are marked to stay. Cut there all the same?`, "Keep", { confirmButtonText: "Cut", cancelButtonText: "Leave it" }).then(() => true, () => false);
    if (said) askedOf.add(`${trackId.value} ${kept}`);
    return said;
  }

  /** The band of the probe at the line must stay, or need not any more. */
  async function keepAtLine(): Promise<void> {
    const [hz, strip] = [probe.line, track.value];
    if (hz === null || !strip) return;
    const left = strip.kept.filter(([low, high]) => hz < low || hz > high);
    const half = 2 ** (Math.max(0.1, probe.values.octaves) / 2);
    const kept = left.length < strip.kept.length ? left : [...left, [Number((hz / half).toFixed(1)), Number((hz * half).toFixed(1))] as [number, number]];
    if (await changes.changeTrack(strip.id, { kept })) void foundAnew(song.id);
  }

  async function add(values: NewMove): Promise<void> {
    if (!(await mayCut(values))) return;
    await added((id) => changes.addMove(id, values));
  }

  /** The pinned-down spot becomes a cut, wider than the probe; several bands become a set of cuts. */
  async function cutAtLine(): Promise<void> {
    if (probe.line === null) return;
    const q = qOfOctaves(Math.min(4, probe.values.octaves * CUT_WIDER));
    const { count, spacing } = probe.values;
    probe.end();
    if (count > 1) {
      const set = { from_hz: Number(probe.line.toFixed(2)), count, spacing, gain_db: CUT_DB, taper_db: 0, q: Number(q.toFixed(3)) };
      return added((id) => changes.addSet(id, set));
    }
    await add({
      mode: "static", shape: "bell", frequency_hz: Number(probe.line.toFixed(2)), q: Number(q.toFixed(3)), gain_db: CUT_DB,
    });
  }

  async function addShape(shape: Shape): Promise<void> {
    await add({
      mode: "static", shape, frequency_hz: Number((probe.line ?? USUAL_HZ[shape] ?? 1000).toFixed(2)),
      q: hasSlope(shape) || shape.endsWith("shelf") ? Math.SQRT1_2 : 4.32,
      gain_db: hasGain(shape) ? -3 : 0, slope_db_per_octave: 24, enabled: true,
    });
  }

  /** Rungs in the treatment column: those that are there are chosen or left, else new ones are made. */
  async function toggleRungs(): Promise<void> {
    const there = moves.value.find((m) => m.mode === "rungs");
    if (there) chosen.value = chosen.value === there.id ? null : there.id;
    else await add({ mode: "rungs", count: USUAL, gains_db: Array.from({ length: USUAL }, () => 0) });
  }

  /** A ready start: moves that listen, their thresholds fitted to the passage. It stands at the line where it can. */
  async function addStart(name: StartName, key: number | null = null): Promise<void> {
    const frequency_hz = probe.line === null ? null : Number(probe.line.toFixed(2));
    await added((id) => changes.addStart(id, { name, key, frequency_hz }));
  }

  function previewMove(id: number, values: Partial<Move>): void {
    if (!track.value) return;
    const before = (track.value.moves as Move[]).find((m) => m.id === id);
    // those of a set go on from what is saved, so that a drag adds nothing up
    const base = togetherBy(before ?? ({} as Move)) && !apart.value ? (track.value.moves as Move[]) : moves.value;
    dragged.value = before && !apart.value ? followed(base, before, values) : moves.value.map((m) => (m.id === id ? { ...m, ...values } : m));
    live.previewMoves(track.value.id, dragged.value);
  }

  let saving = 0;

  /** Shown and heard at once; what comes next while it is saved goes on from it. */
  async function saveMove(id: number, values: Partial<Omit<Move, "id" | "octaves">>): Promise<void> {
    const mine = trackId.value;
    previewMove(id, values);
    saving += 1;
    await changes.changeMove(id, values, apart.value);
    saving -= 1;
    if (saving) return;
    if (mine === trackId.value) dragged.value = null;
    if (mine !== null) live.previewMoves(mine, null);
  }

  async function duplicate(id: number): Promise<void> {
    const source = track.value?.moves.find((m) => m.id === id);
    if (source) await add(valuesOf(source as Move));
  }

  async function remove(id: number): Promise<void> {
    const list = track.value?.moves ?? [];
    const index = list.findIndex((m) => m.id === id);
    if (live.state.only.includes(id)) live.hearOnly([]);
    if (await changes.deleteMove(id)) chosen.value = (list[index + 1] ?? list[index - 1])?.id ?? null;
  }

  function chooseNext(): void {
    const i = moves.value.findIndex((m) => m.id === chosen.value);
    chosen.value = moves.value[(i + 1) % Math.max(1, moves.value.length)]?.id ?? null;
  }

  return {
    trackId, track, arrives, chosen, chosenMove, moves, dragged, apart, profile, sound,
    look, add, keepAtLine, toggleRungs, cutAtLine, addShape, addStart, previewMove, saveMove, duplicate, remove, chooseNext,
  };
});
