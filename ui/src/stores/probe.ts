/** The line that goes through all panels, and the probe that is held on it. */

import { defineStore } from "pinia";
import { computed, reactive, ref, shallowRef, watch } from "vue";
import { clampFrequency, pulledTo } from "../lib/axis";
import { membersOf } from "../lib/sets";
import { type ProbeMode, type Spacing, useLive } from "../live/session";

const NARROWEST = 0.05;
const WIDEST = 2;
const MOST_TOGETHER = 31;

/** A band: its centre, and how wide it is. */
export interface Band {
  readonly hz: number;
  readonly octaves: number;
}

export const useProbe = defineStore("probe", () => {
  const live = useLive();

  /** The frequency of the line; null when there is none. */
  const line = ref<number | null>(null);
  const lineTime = ref<number | null>(null);
  /** Whether it sounds, and whether it stays without being held. */
  const on = ref(false);
  const latched = ref(false);
  const values = reactive({ octaves: 0.1, gain_db: 12, margin_db: 6, mode: "boost" as ProbeMode, count: 1, spacing: "octaves" as Spacing });
  /** Spots that pull the probe while it is swept. */
  const spots = shallowRef<readonly { hz: number; octaves: number }[]>([]);

  /** Bands that are held together with the line's, alone: those of moves. */
  const together = shallowRef<readonly Band[]>([]);
  /** Where its bands lie: the line alone, with its octaves or multiples, or with those of other moves. */
  const bands = computed(() => (line.value === null ? [] : [...membersOf(line.value, values.count, values.spacing), ...together.value.map((b) => b.hz)]));

  function send(): void {
    if (!on.value || line.value === null) return;
    const also = values.mode === "alone" ? together.value.map(({ hz, octaves }) => [hz, octaves] as const) : [];
    live.setProbe({ frequency_hz: line.value, ...values, ...(also.length ? { also } : {}) });
  }

  function start(at: number | null = line.value): void {
    if (at === null) return;
    line.value = clampFrequency(at);
    on.value = true;
    send();
  }

  function end(): void {
    latched.value = false;
    together.value = [];
    if (!on.value) return;
    on.value = false;
    live.setProbe(null);
  }

  /** The hold ends; a latched probe stays. */
  function release(): void {
    if (!latched.value) end();
  }

  function toggleLatch(): void {
    if (latched.value) return end();
    if (line.value === null) line.value = 1000;
    latched.value = true;
    start();
  }

  const asHeld = (band: Band) => ({ hz: clampFrequency(band.hz), octaves: Math.min(WIDEST, Math.max(NARROWEST, band.octaves)) });

  /** Whether just these bands are held, alone. */
  function holds(...bands: readonly Band[]): boolean {
    const [first, ...rest] = bands.map(asHeld);
    if (!first || !latched.value || line.value !== first.hz || values.mode !== "alone" || values.count !== 1) return false;
    const there = together.value;
    return values.octaves === first.octaves && there.length === rest.length && rest.every((b, i) => b.hz === there[i]?.hz && b.octaves === there[i]?.octaves);
  }

  /** Hold bands so that nothing else is heard; once more lets go. */
  function hold(...bands: readonly Band[]): void {
    if (holds(...bands)) return end();
    const [first, ...rest] = bands.map(asHeld);
    if (!first) return;
    Object.assign(values, { octaves: first.octaves, mode: "alone", count: 1 });
    together.value = rest.slice(0, MOST_TOGETHER);
    line.value = first.hz;
    latched.value = true;
    start(first.hz);
  }

  function widen(factor: number): void {
    values.octaves = Math.min(WIDEST, Math.max(NARROWEST, values.octaves * factor));
  }

  /** The pointer or a key moves the line; an active probe follows at once. Only a swept one is pulled: keys are exact. */
  function moveLine(hz: number | null, time: number | null = null, swept = false): void {
    if (hz === null && latched.value) return;
    if (hz !== null) together.value = []; // what is swept is one band, or a set
    line.value = hz === null ? null : clampFrequency(on.value && swept ? pulledTo(hz, spots.value) : hz);
    lineTime.value = time;
    send();
  }

  watch(() => ({ ...values }), send);

  return { line, lineTime, on, latched, values, bands, spots, start, end, release, toggleLatch, holds, hold, widen, moveLine };
});
