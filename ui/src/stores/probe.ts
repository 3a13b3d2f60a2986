/** The line that goes through all panels, and the probe that is held on it. */

import { defineStore } from "pinia";
import { computed, reactive, ref, shallowRef, watch } from "vue";
import { clampFrequency, pulledTo } from "../lib/axis";
import { membersOf } from "../lib/sets";
import { type ProbeMode, type Spacing, useLive } from "../live/session";

const NARROWEST = 0.05;
const WIDEST = 2;

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
  /** Where its bands lie: the line alone, or with its octaves or multiples. */
  const bands = computed(() => (line.value === null ? [] : membersOf(line.value, values.count, values.spacing)));
  /** Spots that pull the probe while it is swept. */
  const spots = shallowRef<readonly { hz: number; octaves: number }[]>([]);

  function send(): void {
    if (on.value && line.value !== null) live.setProbe({ frequency_hz: line.value, ...values });
  }

  function start(at: number | null = line.value): void {
    if (at === null) return;
    line.value = clampFrequency(at);
    on.value = true;
    send();
  }

  function end(): void {
    latched.value = false;
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

  /** Whether just this band is held, alone. */
  function holds(band: Band): boolean {
    const { hz, octaves } = asHeld(band);
    return latched.value && line.value === hz && values.mode === "alone" && values.count === 1 && values.octaves === octaves;
  }

  /** Hold a band so that nothing else is heard; once more lets go. */
  function hold(band: Band): void {
    if (holds(band)) return end();
    const { hz, octaves } = asHeld(band);
    Object.assign(values, { octaves, mode: "alone", count: 1 });
    line.value = hz;
    latched.value = true;
    start(hz);
  }

  function widen(factor: number): void {
    values.octaves = Math.min(WIDEST, Math.max(NARROWEST, values.octaves * factor));
  }

  /** The pointer or a key moves the line; an active probe follows at once. Only a swept one is pulled: keys are exact. */
  function moveLine(hz: number | null, time: number | null = null, swept = false): void {
    if (hz === null && latched.value) return;
    line.value = hz === null ? null : clampFrequency(on.value && swept ? pulledTo(hz, spots.value) : hz);
    lineTime.value = time;
    send();
  }

  watch(() => ({ ...values }), send);

  return { line, lineTime, on, latched, values, bands, spots, start, end, release, toggleLatch, holds, hold, widen, moveLine };
});
