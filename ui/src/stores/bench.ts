/** The bench: the track that is looked at, the shared axes, the line, the probe, the chosen move. */

import { defineStore } from "pinia";
import { computed, reactive, ref, shallowRef, watch } from "vue";
import { type Profile, api, ask } from "../api/client";
import { type FrequencyRange, type TimeRange, WHOLE, clampFrequency, pulledTo } from "../lib/axis";
import { type Move, type NewMove, hasGain, hasSlope, valuesOf } from "../lib/moves";
import { type ProbeMode, useLive } from "../live/session";
import { complain, useSong } from "./song";

const NARROWEST = 0.05;
const WIDEST = 2;
/** A cut is made wider than the band that found it (common practice, no source). */
const CUT_WIDER = 1.5;
const CUT_DB = -6;

export const useBench = defineStore("bench", () => {
  const song = useSong();
  const live = useLive();

  const trackId = ref<number | null>(null);
  const track = computed(() => song.tracks.find((t) => t.id === trackId.value) ?? null);

  const frequencies = ref<FrequencyRange>(WHOLE);
  const times = ref<TimeRange>({ from: 0, to: 1 });
  const mapWhole = ref(false);
  const mapTreated = ref(false);

  /** The frequency of the line that goes through all panels; null when there is none. */
  const line = ref<number | null>(null);
  const lineTime = ref<number | null>(null);

  const probe = reactive({
    on: false, latched: false, octaves: 0.1, gain_db: 12, margin_db: 6, mode: "boost" as ProbeMode,
  });

  /** Spots that pull the probe while it is swept. */
  const spots = shallowRef<readonly { hz: number; octaves: number }[]>([]);

  const chosen = ref<number | null>(null);
  /** Values of moves while one is dragged: heard, but not saved yet. */
  const dragged = shallowRef<Move[] | null>(null);
  const moves = computed<readonly Move[]>(() => dragged.value ?? track.value?.moves ?? []);
  const chosenMove = computed(() => moves.value.find((m) => m.id === chosen.value) ?? null);

  const profile = shallowRef<Profile | null>(null);

  const passage = computed<TimeRange | null>(() => {
    const s = song.song;
    return s?.passage_from_s != null && s.passage_to_s != null ? { from: s.passage_from_s, to: s.passage_to_s } : null;
  });

  function showTimes(): void {
    const whole = { from: 0, to: Math.max(0.25, song.song?.duration_s ?? 1) };
    times.value = mapWhole.value || !passage.value ? whole : passage.value;
  }

  watch([passage, mapWhole, () => song.song?.duration_s], showTimes, { immediate: true });

  function look(id: number): void {
    if (trackId.value === id) return;
    endProbe();
    if (dragged.value && trackId.value !== null) live.previewMoves(trackId.value, null);
    trackId.value = id;
    chosen.value = null;
    dragged.value = null;
    profile.value = null;
  }

  // --- the probe ---

  function sendProbe(): void {
    if (!probe.on || line.value === null) return;
    const { octaves, gain_db, margin_db, mode } = probe;
    live.setProbe({ frequency_hz: line.value, octaves, gain_db, margin_db, mode });
  }

  function startProbe(at: number | null = line.value): void {
    if (at === null) return;
    line.value = clampFrequency(at);
    probe.on = true;
    sendProbe();
  }

  function endProbe(): void {
    probe.latched = false;
    if (!probe.on) return;
    probe.on = false;
    live.setProbe(null);
  }

  /** The hold ends; a latched probe stays. */
  function releaseProbe(): void {
    if (!probe.latched) endProbe();
  }

  function toggleLatch(): void {
    if (probe.latched) return endProbe();
    if (line.value === null) line.value = 1000;
    probe.latched = true;
    startProbe();
  }

  function widenProbe(factor: number): void {
    probe.octaves = Math.min(WIDEST, Math.max(NARROWEST, probe.octaves * factor));
  }

  /** The pointer or a key moves the line; an active probe follows at once. Only a swept one is pulled: keys are exact. */
  function moveLine(hz: number | null, time: number | null = null, swept = false): void {
    if (hz === null && probe.latched) return;
    line.value = hz === null ? null : clampFrequency(probe.on && swept ? pulledTo(hz, spots.value) : hz);
    lineTime.value = time;
    sendProbe();
  }

  watch(() => [probe.octaves, probe.gain_db, probe.margin_db, probe.mode], sendProbe);

  // --- moves ---

  async function add(values: NewMove): Promise<void> {
    if (!track.value) return;
    const known = new Set(track.value.moves.map((m) => m.id));
    if (await song.addMove(track.value.id, values)) {
      chosen.value = track.value?.moves.find((m) => !known.has(m.id))?.id ?? null;
    }
  }

  /** The pinned-down spot becomes a cut, wider than the probe. */
  async function cutAtLine(): Promise<void> {
    if (line.value === null) return;
    const octaves = Math.min(4, probe.octaves * CUT_WIDER);
    const q = Math.sqrt(2 ** octaves) / (2 ** octaves - 1);
    endProbe();
    await add({
      shape: "bell", frequency_hz: Number(line.value.toFixed(2)), q: Number(q.toFixed(3)), gain_db: CUT_DB,
    });
  }

  async function addShape(shape: Move["shape"]): Promise<void> {
    const fallback = shape === "low_cut" ? 60 : shape === "high_cut" ? 12000 : shape === "low_shelf" ? 150 : shape === "high_shelf" ? 6000 : 1000;
    await add({
      shape, frequency_hz: Number((line.value ?? fallback).toFixed(2)), q: hasSlope(shape) || shape.endsWith("shelf") ? Math.SQRT1_2 : 4.32,
      gain_db: hasGain(shape) ? -3 : 0, slope_db_per_octave: 24, enabled: true,
    });
  }

  function previewMove(id: number, values: Partial<Move>): void {
    if (!track.value) return;
    dragged.value = moves.value.map((m) => (m.id === id ? { ...m, ...values } : m));
    live.previewMoves(track.value.id, dragged.value);
  }

  let saving = 0;

  /** Shown and heard at once; what comes next while it is saved goes on from it. */
  async function saveMove(id: number, values: Partial<Omit<Move, "id" | "octaves">>): Promise<void> {
    const mine = trackId.value;
    previewMove(id, values);
    saving += 1;
    await song.changeMove(id, values);
    saving -= 1;
    if (saving) return;
    if (mine === trackId.value) dragged.value = null;
    if (mine !== null) live.previewMoves(mine, null);
  }

  async function duplicate(id: number): Promise<void> {
    const source = track.value?.moves.find((m) => m.id === id);
    if (source) await add(valuesOf(source));
  }

  async function remove(id: number): Promise<void> {
    const list = track.value?.moves ?? [];
    const index = list.findIndex((m) => m.id === id);
    if (live.state.only.includes(id)) live.hearOnly([]);
    if (await song.deleteMove(id)) chosen.value = (list[index + 1] ?? list[index - 1])?.id ?? null;
  }

  // --- the profile ---

  let profileRequest = 0;
  async function loadProfile(): Promise<void> {
    const t = track.value;
    if (!t) return;
    const mine = ++profileRequest;
    const query = passage.value ? { from_s: passage.value.from, to_s: passage.value.to, bands_per_octave: 24 } : { bands_per_octave: 24 };
    const path = { song_id: song.id, track_id: t.id };
    try {
      const found = await ask(api.GET("/api/songs/{song_id}/tracks/{track_id}/profile", { params: { path, query } }));
      if (mine === profileRequest) profile.value = found;
    } catch (problem) {
      if (mine === profileRequest) complain(problem);
    }
  }

  watch([() => track.value?.moves, trackId, passage], () => void loadProfile(), { immediate: true });

  return {
    trackId, track, frequencies, times, mapWhole, mapTreated, line, lineTime, probe, chosen, chosenMove, moves, dragged,
    profile, passage, spots,
    look, startProbe, endProbe, releaseProbe, toggleLatch, widenProbe, moveLine, cutAtLine, addShape, previewMove, saveMove,
    duplicate, remove, showTimes,
  };
});
