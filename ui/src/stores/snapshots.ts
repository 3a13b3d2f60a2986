/** Snapshots of the song: kept, gone back to, and the last two switched between. */

import { useQuery } from "@tanstack/vue-query";
import { defineStore } from "pinia";
import { computed, ref, watch } from "vue";
import { api, ask } from "../api/client";
import { cache } from "../data/cache";
import { snapshotsQuery } from "../data/queries";
import { complain } from "../lib/complain";
import { useChanges } from "./changes";
import { useSong } from "./song";

export const useSnapshots = defineStore("snapshots", () => {
  const song = useSong();
  const changes = useChanges();
  const query = computed(() => snapshotsQuery(song.id));
  const { data } = useQuery(query, cache);
  const all = computed(() => data.value ?? []);
  /** The last two that were kept or gone to, the present one last. */
  const pair = ref<readonly number[]>([]);
  watch(() => song.id, () => (pair.value = []));

  const again = () => cache.invalidateQueries({ queryKey: query.value.queryKey });
  const noted = (id: number) => (pair.value = [...pair.value.filter((x) => x !== id), id].slice(-2));
  const nameOf = (id: number) => all.value.find((s) => s.id === id)?.name ?? "";

  /** Keep how a strip, or without one the song, is treated now. */
  async function keep(strip_id: number | null, name: string): Promise<void> {
    try {
      const made = await ask(api.POST("/api/songs/{song_id}/snapshots", { params: { path: { song_id: song.id } }, body: { name, strip_id } }));
      await again();
      noted(made.id);
    } catch (problem) {
      complain(problem);
    }
  }

  async function go(id: number): Promise<void> {
    if (await changes.goToSnapshot(id)) noted(id);
  }

  /** To the one of the last two that is not heard. */
  async function other(): Promise<void> {
    const [first, second] = pair.value.filter((id) => all.value.some((s) => s.id === id));
    if (first === undefined || second === undefined) return complain("Keep two snapshots first; then S goes from one to the other.");
    await go(first);
  }

  async function forget(id: number): Promise<void> {
    await ask(api.DELETE("/api/songs/{song_id}/snapshots/{snapshot_id}", { params: { path: { song_id: song.id, snapshot_id: id } } })).catch(complain);
    await again();
  }

  /** A name that is free: the next number. */
  const nextName = computed(() => `Snapshot ${Math.max(0, ...all.value.map((s) => Number(/^Snapshot (\d+)$/.exec(s.name)?.[1] ?? 0))) + 1}`);

  return { all, pair, nameOf, keep, go, other, forget, nextName };
});
