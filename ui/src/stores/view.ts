/** What of the bench is in sight: the shared axes, and which time map. */

import { useLocalStorage } from "@vueuse/core";
import { defineStore } from "pinia";
import { computed, ref, watch } from "vue";
import { type FrequencyRange, type TimeRange, WHOLE } from "../lib/axis";
import { asNote, writeHz } from "../lib/notes";
import { useSong } from "./song";

export const useView = defineStore("view", () => {
  const open = useSong();

  const frequencies = ref<FrequencyRange>(WHOLE);
  const times = ref<TimeRange>({ from: 0, to: 1 });
  const mapWhole = ref(false);
  const mapTreated = ref(false);
  /** Whether what is read on the line is written out below the panels. */
  const readout = useLocalStorage("mivlo.readout", true);

  /** Whether frequencies of moves, findings and the ruler are read as notes. Typed they can be both, always. */
  const notes = useLocalStorage("mivlo.notes", false);
  const place = (hz: number): string => (notes.value ? asNote(hz) : `${writeHz(hz)} Hz`);

  /** How far the treatment reaches in dB, either way; 0: as far as the moves need, 12 at least. */
  const reach = useLocalStorage("mivlo.reach", 0);
  const REACHES = [0, 6, 12, 24];
  const nextReach = () => (reach.value = REACHES[(REACHES.indexOf(reach.value) + 1) % REACHES.length] ?? 0);

  const passage = computed<TimeRange | null>(() => {
    const s = open.song;
    return s?.passage_from_s != null && s.passage_to_s != null ? { from: s.passage_from_s, to: s.passage_to_s } : null;
  });

  function showTimes(): void {
    const whole = { from: 0, to: Math.max(0.25, open.duration) };
    times.value = mapWhole.value || !passage.value ? whole : passage.value;
  }

  function showAll(): void {
    frequencies.value = WHOLE;
    showTimes();
  }

  // the same passage told again moves nothing
  watch([() => passage.value?.from, () => passage.value?.to, mapWhole, () => open.duration], showTimes, { immediate: true });

  return { frequencies, times, mapWhole, mapTreated, readout, notes, place, reach, nextReach, passage, showAll };
});
