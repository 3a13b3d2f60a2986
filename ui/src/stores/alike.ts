/** More of the same: moments that are like a spot of the time map, to be heard and to be cut. */

import { defineStore } from "pinia";
import { computed, ref, shallowRef, watch } from "vue";
import { type AlikeMoment, api, ask } from "../api/client";
import { complain } from "../lib/complain";
import { qOfOctaves } from "../lib/moves";
import { joined } from "../lib/stretches";
import { useLive } from "../live/session";
import { useBench } from "./bench";
import { useSong } from "./song";

export interface Spot {
  readonly from_hz: number;
  readonly to_hz: number;
  readonly from_s: number;
  readonly to_s: number;
}

/** Heard around a moment, so that it can be told what it is in. */
const AROUND_S = 0.6;
/** A move takes a little more than the moment itself. */
const MARGIN_S = 0.015;
const CUT_DB = -9;

export const useAlike = defineStore("alike", () => {
  const song = useSong();
  const bench = useBench();
  const live = useLive();

  const spot = shallowRef<Spot | null>(null);
  const moments = shallowRef<readonly AlikeMoment[]>([]);
  const left = ref(new Set<AlikeMoment>());
  const looking = ref(false);
  const here = computed(() => moments.value.filter((m) => m.track_id === bench.trackId));
  const kept = computed(() => here.value.filter((m) => !left.value.has(m)));

  function clear(): void {
    spot.value = null;
    moments.value = [];
    left.value = new Set();
  }
  watch(() => bench.trackId, clear);

  async function find(where: Spot, everywhere = false): Promise<void> {
    const track = bench.trackId;
    if (track === null) return;
    clear();
    spot.value = where;
    looking.value = true;
    try {
      const found = await ask(api.POST("/api/songs/{song_id}/tracks/{track_id}/alike", {
        params: { path: { song_id: song.id, track_id: track } }, body: { ...where, everywhere },
      }));
      if (spot.value === where) moments.value = found;
    } catch (problem) {
      complain(problem as Error);
      clear();
    } finally {
      looking.value = false;
    }
  }

  function hear(moment: AlikeMoment): void {
    live.seek(Math.max(0, moment.from_s - AROUND_S));
    if (!live.state.playing) void live.togglePlay();
  }

  function toggle(moment: AlikeMoment): void {
    const next = new Set(left.value);
    if (!next.delete(moment)) next.add(moment);
    left.value = next;
  }

  /** A bell at the spot that acts at these moments only. */
  async function cut(): Promise<void> {
    const where = spot.value;
    if (!where || !kept.value.length) return;
    const stretches = kept.value.map((m): [number, number] => [Math.max(0, m.from_s - MARGIN_S), m.to_s + MARGIN_S]);
    const octaves = Math.min(4, Math.max(0.1, Math.log2(where.to_hz / where.from_hz)));
    await bench.add({
      mode: "static", shape: "bell", frequency_hz: Number(Math.sqrt(where.from_hz * where.to_hz).toFixed(1)),
      q: Number(qOfOctaves(octaves).toFixed(3)), gain_db: CUT_DB, stretches: joined(stretches),
    });
    clear();
  }

  return { spot, moments, here, kept, left, looking, find, clear, hear, toggle, cut };
});
