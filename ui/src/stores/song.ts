/** Which song is open, and what the server last told of it. */

import { useQuery } from "@tanstack/vue-query";
import { useLocalStorage } from "@vueuse/core";
import { defineStore } from "pinia";
import { computed, ref } from "vue";
import { type Song, type Strip, type Track, api, ask } from "../api/client";
import { cache } from "../data/cache";
import { names, newer, songQuery, songsQuery } from "../data/queries";
import { complain } from "../lib/complain";
import { rowsOf } from "../lib/tree";
import { AGAIN_MS, missingIn, useAway } from "./away";

export const useSong = defineStore("song", () => {
  const away = useAway();
  const opened = ref(0);
  const last = useLocalStorage("mivlo.song", 0);
  const loading = ref(true);

  const list = useQuery({ ...songsQuery(), enabled: false }, cache);
  const query = useQuery(computed(() => songQuery(opened.value)), cache);

  const songs = computed(() => list.data.value ?? []);
  const song = computed(() => query.data.value ?? null);
  const id = computed(() => song.value?.id ?? 0);
  const tracks = computed<readonly Track[]>(() => song.value?.tracks ?? []);
  const strips = computed<readonly Strip[]>(() => song.value?.strips ?? []);
  const groups = computed(() => strips.value.filter((s) => s.kind === "group"));
  const folded = useLocalStorage<number[]>("mivlo.folded", []);
  const rows = computed(() => rowsOf(strips.value, new Set(folded.value)));
  const stripOf = (stripId: number | null) => strips.value.find((s) => s.id === stripId) ?? null;
  const trackOf = (stripId: number | null) => tracks.value.find((t) => t.id === stripId) ?? null;
  /** A name of the sound that reaches a strip's moves. */
  const arrives = (stripId: number | null): string => {
    const track = trackOf(stripId);
    return track ? `${track.audio_sha256}_${track.starts_at_s}` : (song.value?.arrives[stripId ?? 0] ?? "");
  };
  const duration = computed(() => song.value?.duration_s ?? 1);

  function fold(stripId: number, closed: boolean): void {
    folded.value = [...folded.value.filter((known) => known !== stripId), ...(closed ? [stripId] : [])];
  }

  /** A state of the song that came as the answer to a change. */
  function take(told: Song): void {
    cache.setQueryData<Song>(names.song(told.id), (known) => newer(known, told));
  }

  async function open(songId: number): Promise<void> {
    await cache.fetchQuery({ ...songQuery(songId), staleTime: 0 });
    opened.value = songId;
    last.value = songId;
    // what was changed while no server ran, or found by an older method, is looked at again
    void api.POST("/api/songs/{song_id}/look", { params: { path: { song_id: songId } } });
  }

  async function start(): Promise<void> {
    try {
      const known = await cache.fetchQuery(songsQuery());
      const first = known.find((s) => s.id === last.value) ?? known[0];
      if (first) await open(first.id);
      away.back();
    } catch (problem) {
      if (missingIn(problem)) {
        setTimeout(() => void start(), AGAIN_MS);
        return;
      }
      complain(problem);
    }
    loading.value = false;
  }

  async function create(name: string, sampleRate: number): Promise<void> {
    const made = await ask(api.POST("/api/songs", { body: { name, sample_rate: sampleRate } }));
    await cache.fetchQuery({ ...songsQuery(), staleTime: 0 });
    await open(made.id);
  }

  return { songs, song, id, tracks, strips, groups, rows, stripOf, trackOf, arrives, fold, duration, loading, take, start, open, create };
});
