/** What can be asked of the server, each under its name in the cache. All that depends on a song begins with it. */

import { queryOptions } from "@tanstack/vue-query";
import type { components } from "../api/schema";
import { type Direction, type Song, api, ask, bytes } from "../api/client";
import { cache } from "./cache";

export const names = {
  songs: ["songs"] as const,
  song: (id: number) => ["song", id] as const,
  tasks: (id: number) => ["song", id, "tasks"] as const,
  findings: (id: number, track?: number) => ["song", id, "findings", ...(track === undefined ? [] : [track])] as const,
  survey: (id: number) => ["song", id, "survey"] as const,
  repeats: (id: number) => ["song", id, "repeats"] as const,
  watch: (id: number) => ["song", id, "watch"] as const,
};

/** The newer of two states of a song: an answer that was long on its way changes nothing back. */
export const newer = (known: Song | undefined, told: Song): Song => (known && known.revision > told.revision ? known : told);

export const songsQuery = () => queryOptions({ queryKey: names.songs, queryFn: () => ask(api.GET("/api/songs")) });

export const songQuery = (id: number) =>
  queryOptions({
    queryKey: names.song(id),
    queryFn: async () => newer(cache.getQueryData<Song>(names.song(id)), await ask(api.GET("/api/songs/{song_id}", { params: { path: { song_id: id } } }))),
    enabled: id > 0,
  });

export const tasksQuery = (id: number) =>
  queryOptions({
    queryKey: names.tasks(id),
    queryFn: () => ask(api.GET("/api/songs/{song_id}/tasks", { params: { path: { song_id: id } } })),
    enabled: id > 0,
  });

export const findingsQuery = (id: number, track: number | null) =>
  queryOptions({
    queryKey: names.findings(id, track ?? 0),
    queryFn: () => ask(api.GET("/api/songs/{song_id}/tracks/{track_id}/findings", { params: { path: { song_id: id, track_id: track ?? 0 } } })),
    enabled: id > 0 && track !== null,
  });

export const repeatsQuery = (id: number) =>
  queryOptions({
    queryKey: names.repeats(id),
    queryFn: () => ask(api.GET("/api/songs/{song_id}/repeats", { params: { path: { song_id: id } } })),
    enabled: id > 0,
  });

/** Which folders the song watches, and what was done there last. */
export const watchQuery = (id: number) =>
  queryOptions({
    queryKey: names.watch(id),
    queryFn: () => ask(api.GET("/api/songs/{song_id}/watch", { params: { path: { song_id: id } } })),
    enabled: id > 0,
  });

type Passage = { from: number; to: number } | null;
const between = (passage: Passage) => (passage ? { from_s: passage.from, to_s: passage.to } : {});

/** `sound` names what the track sounds like; a profile of another sound is another profile. */
export const profileQuery = (id: number, track: number | null, sound: unknown, passage: Passage) =>
  queryOptions({
    queryKey: ["song", id, "profile", track, passage, sound],
    queryFn: ({ signal }) => {
      const query = { bands_per_octave: 24, ...between(passage) };
      return ask(api.GET("/api/songs/{song_id}/tracks/{track_id}/profile", { params: { path: { song_id: id, track_id: track ?? 0 }, query }, signal }));
    },
    enabled: id > 0 && track !== null,
    gcTime: 60_000,
  });

export const startsQuery = () =>
  queryOptions({ queryKey: ["starts"], queryFn: () => ask(api.GET("/api/starts")), staleTime: Infinity });

interface Asked {
  readonly queryKey: readonly unknown[];
}

/** What was known of a move (or a song) stays until the new is there; what is of another one does not. */
const untilNew = (id: number | null, at = 3) => <T>(old: T | undefined, of?: Asked) => (of?.queryKey[at] === id ? old : undefined);

/** What a dynamic move reads over the passage; `state` names all that it may depend on. */
export const levelsQuery = (id: number, move: number | null, passage: Passage, state: unknown) =>
  queryOptions({
    queryKey: ["song", id, "levels", move, passage, state],
    queryFn: ({ signal }) => {
      const path = { song_id: id, move_id: move ?? 0 };
      return ask(api.GET("/api/songs/{song_id}/moves/{move_id}/levels", { params: { path, query: between(passage) }, signal }));
    },
    enabled: id > 0 && move !== null,
    placeholderData: untilNew(move),
    gcTime: 60_000,
  });

/** What an adaptive move takes away over the passage; `state` names all that it may depend on. */
export const cutsQuery = (id: number, move: number | null, passage: Passage, state: unknown) =>
  queryOptions({
    queryKey: ["song", id, "cuts", move, passage, state],
    queryFn: ({ signal }) => {
      const path = { song_id: id, move_id: move ?? 0 };
      return ask(api.GET("/api/songs/{song_id}/moves/{move_id}/cuts", { params: { path, query: between(passage) }, signal }));
    },
    enabled: id > 0 && move !== null,
    placeholderData: untilNew(move),
    gcTime: 60_000,
  });

export const mapQuery = (id: number, track: number | null, recording: string) =>
  queryOptions({
    queryKey: ["song", id, "map", track, recording],
    queryFn: () => ask(api.GET("/api/songs/{song_id}/tracks/{track_id}/map", { params: { path: { song_id: id, track_id: track ?? 0 } } })),
    enabled: id > 0 && track !== null,
  });

/** A tile of the time map that could not be had is asked for again after so long. */
const TILE_AGAIN_MS = 5000;

/** `sound` names what the track sounds like; null for the untreated map. */
export const tileQuery = (id: number, track: number, recording: string, level: number, index: number, sound: string | null, revision: number) =>
  queryOptions({
    queryKey: ["song", id, "map", track, recording, level, index, sound],
    queryFn: async ({ signal }) => {
      const which = sound === null ? `of=${recording}` : `treated=true&rev=${revision}`;
      return new Uint8Array(await bytes(`/api/songs/${id}/tracks/${track}/map/${level}/${index}?${which}`, signal));
    },
    retry: 3,
    retryDelay: TILE_AGAIN_MS,
    structuralSharing: false,
  });

/** Lowest and highest sample of each of `points` stretches of the song, -127 to 127. */
export const waveformQuery = (id: number, track: number, recording: string, duration: number, points: number) =>
  queryOptions({
    queryKey: ["song", id, "waveform", track, recording, duration, points],
    queryFn: async ({ signal }) => new Int8Array(await bytes(`/api/songs/${id}/tracks/${track}/waveform?points=${points}`, signal)),
    enabled: id > 0,
    structuralSharing: false,
  });

/** Who covers whom over the passage; `sound` names all that it may depend on. What was known stays until the new is there. */
export const clashesQuery = (id: number, passage: Passage, compared: { folded: number[]; only: number[] }, sound: string, wanted: boolean) =>
  queryOptions({
    queryKey: ["song", id, "clashes", passage, compared, sound],
    queryFn: ({ signal }) => ask(api.GET("/api/songs/{song_id}/clashes", { params: { path: { song_id: id }, query: { ...between(passage), ...compared } }, signal })),
    enabled: id > 0 && wanted,
    placeholderData: untilNew(id, 1),
    staleTime: Infinity,
    gcTime: 300_000,
  });

/** The last survey of the whole song. `sound` names what it may be out of date by. */
export const wholeSongQuery = (id: number, sound: string, wanted: boolean) =>
  queryOptions({
    queryKey: [...names.survey(id), sound],
    queryFn: ({ signal }) => ask(api.GET("/api/songs/{song_id}/clashes/song", { params: { path: { song_id: id } }, signal })),
    enabled: id > 0 && wanted,
    placeholderData: untilNew(id, 1),
  });

export const floorQuery = (id: number, passage: Passage, aboveNotes: boolean, sound: string, wanted: boolean) =>
  queryOptions({
    queryKey: ["song", id, "floor", passage, aboveNotes, sound],
    queryFn: ({ signal }) => ask(api.GET("/api/songs/{song_id}/floor", { params: { path: { song_id: id }, query: { ...between(passage), above_notes: aboveNotes } }, signal })),
    enabled: id > 0 && wanted,
    staleTime: Infinity,
    gcTime: 300_000,
  });

/** What treating a group in place of its tracks would be; `state` names all that it may depend on. */
export const gatheringQuery = (id: number, group: number, direction: Direction, move_ids: number[], state: unknown) =>
  queryOptions({
    queryKey: ["song", id, "gathering", group, direction, move_ids, state],
    queryFn: ({ signal }) => {
      const path = { song_id: id, strip_id: group };
      return ask(api.POST("/api/songs/{song_id}/strips/{strip_id}/gathering", { params: { path }, body: { direction, move_ids }, signal }));
    },
    enabled: id > 0 && move_ids.length > 0,
    retry: false,
    gcTime: 60_000,
  });

/** What the tracks of a group add up to in the harsh range; `sound` names all that it may depend on. */
export const pileQuery = (id: number, strip: number, depth_db: number, passage: Passage, sound: string) =>
  queryOptions({
    queryKey: ["song", id, "pile", strip, depth_db, passage, sound],
    queryFn: ({ signal }) => {
      const path = { song_id: id, strip_id: strip };
      return ask(api.GET("/api/songs/{song_id}/strips/{strip_id}/pile", { params: { path, query: { ...between(passage), depth_db } }, signal }));
    },
    enabled: id > 0 && strip > 0,
    retry: false,
    staleTime: Infinity,
    gcTime: 300_000,
  });

/** What would bring a strip's balance towards another's; `state` names all that it may depend on. */
export const balanceQuery = (id: number, track: number, wanted: components["schemas"]["BalanceIn"], state: unknown) =>
  queryOptions({
    queryKey: ["song", id, "balance", track, wanted, state],
    queryFn: ({ signal }) => ask(api.POST("/api/songs/{song_id}/tracks/{track_id}/balance", { params: { path: { song_id: id, track_id: track } }, body: wanted, signal })),
    enabled: id > 0 && track > 0 && (!!wanted.towards || !!wanted.reference),
    retry: false,
    gcTime: 60_000,
  });

/** Two snapshots of a strip (null: as it is now) over the passage; `sound` names all that it may depend on. */
export const comparedQuery = (id: number, track: number, first: number, second: number | null, passage: Passage, sound: string) =>
  queryOptions({
    queryKey: ["song", id, "compared", track, first, second, passage, sound],
    queryFn: ({ signal }) => {
      const query = { track_id: track, first, ...(second === null ? {} : { second }) };
      return ask(api.GET("/api/songs/{song_id}/snapshots/compared", { params: { path: { song_id: id }, query }, signal }));
    },
    enabled: id > 0 && track > 0 && first > 0,
    retry: false,
    gcTime: 60_000,
  });

export const recipesQuery = () => queryOptions({ queryKey: ["recipes"], queryFn: () => ask(api.GET("/api/recipes")) });

export const snapshotsQuery = (id: number) =>
  queryOptions({
    queryKey: ["song", id, "snapshots"],
    queryFn: () => ask(api.GET("/api/songs/{song_id}/snapshots", { params: { path: { song_id: id } } })),
    enabled: id > 0,
  });

/** The last steps of a song; `revision` tells when there are more. */
export const historyQuery = (id: number, revision: number, wanted: boolean) =>
  queryOptions({
    queryKey: ["song", id, "history", revision],
    queryFn: () => ask(api.GET("/api/songs/{song_id}/history", { params: { path: { song_id: id }, query: { most: 30 } } })),
    enabled: id > 0 && wanted,
    gcTime: 60_000,
  });

export const diskQuery = () => queryOptions({ queryKey: ["disk"], queryFn: () => ask(api.GET("/api/disk")), staleTime: 0 });

/** Something of the song was changed: what was told of it is asked for again where it is shown. */
export function songChanged(id: number): Promise<unknown> {
  return Promise.all([
    cache.invalidateQueries({ queryKey: names.song(id), exact: true }),
    foundAnew(id),
  ]);
}

/** What could not be had is asked for again. */
export const failedAgain = () => cache.invalidateQueries({ predicate: (query) => query.state.status === "error" });

/** What stands out was looked for again, or decided. */
export function foundAnew(id: number): Promise<unknown> {
  return Promise.all([
    cache.invalidateQueries({ queryKey: names.findings(id) }),
    cache.invalidateQueries({ queryKey: names.repeats(id) }),
  ]);
}
