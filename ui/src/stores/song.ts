/** The song as the server last told it; every change goes to the server and comes back whole. */

import { ElMessage } from "element-plus";
import { defineStore } from "pinia";
import { computed, ref, shallowRef } from "vue";
import type { paths } from "../api/schema";
import { type Song, type SongLine, type Task, type Track, Refusal, api, ask } from "../api/client";
import { type Move, type NewMove, valuesOf } from "../lib/moves";

export function complain(problem: unknown): void {
  const text = problem instanceof Error ? problem.message : String(problem);
  ElMessage({ message: text, type: "error", duration: 7000, showClose: true, grouping: true });
}

export const useSong = defineStore("song", () => {
  const songs = ref<SongLine[]>([]);
  const song = shallowRef<Song | null>(null);
  const tasks = ref<Task[]>([]);
  const savedAt = ref<Date | null>(null);
  const loading = ref(true);
  /** News of findings: how often so far, and of which track the last one was. */
  const foundTold = ref({ count: 0, track: 0 });
  let events: EventSource | null = null;

  const id = computed(() => song.value?.id ?? 0);
  const tracks = computed<Track[]>(() => song.value?.tracks ?? []);
  const openTasks = computed(() => tasks.value.filter((t) => t.state === "waiting" || t.state === "running"));
  /** The task that looks for what stands out in a track, while it waits or runs. */
  const lookingAt = (name: string | undefined) => openTasks.value.find((t) => t.kind === "analyse" && t.label === name) ?? null;
  const at = () => ({ song_id: id.value });

  function take(next: Song): void {
    if (song.value && song.value.id === next.id && next.revision < song.value.revision) return;
    song.value = next;
  }

  let last: Promise<unknown> = Promise.resolve();

  /** Do a change after those before it, so that each one is made against the state that it left. */
  function change(call: (song: Song) => Promise<Song>): Promise<boolean> {
    const mine = last.then(() => changeNow(call));
    last = mine;
    return mine;
  }

  /** A refusal is shown; after a conflict the present state comes with it. */
  async function changeNow(call: (song: Song) => Promise<Song>): Promise<boolean> {
    if (!song.value) return false;
    try {
      take(await call(song.value));
      savedAt.value = new Date();
      return true;
    } catch (problem) {
      complain(problem);
      if (problem instanceof Refusal && problem.song) take(problem.song);
      else if (problem instanceof Refusal && problem.status === 409) await reload();
      return false;
    }
  }

  async function reload(): Promise<void> {
    if (id.value) take(await ask(api.GET("/api/songs/{song_id}", { params: { path: at() } })));
  }

  async function refreshTasks(): Promise<void> {
    tasks.value = await ask(api.GET("/api/songs/{song_id}/tasks", { params: { path: at() } }));
  }

  function follow(songId: number): void {
    events?.close();
    events = new EventSource(`/api/songs/${songId}/events`);
    events.addEventListener("song", (event) => {
      const { revision } = JSON.parse((event as MessageEvent<string>).data) as { revision: number };
      if (revision > (song.value?.revision ?? 0)) void reload().catch(complain);
    });
    events.addEventListener("task", (event) => {
      const told = JSON.parse((event as MessageEvent<string>).data) as { task_id: number; progress?: number };
      const known = tasks.value.find((t) => t.id === told.task_id);
      if (known && told.progress !== undefined) known.progress = told.progress;
      else void refreshTasks().catch(complain);
    });
    events.addEventListener("findings", (event) => {
      foundTold.value = { count: foundTold.value.count + 1, track: (JSON.parse((event as MessageEvent<string>).data) as { track_id: number }).track_id };
      void reload().catch(complain);
    });
    // what happened before the server listened for us was told to nobody
    events.addEventListener("ready", () => void Promise.all([reload(), refreshTasks()]).catch(complain));
  }

  async function open(songId: number): Promise<void> {
    song.value = await ask(api.GET("/api/songs/{song_id}", { params: { path: { song_id: songId } } }));
    savedAt.value = null;
    await refreshTasks();
    follow(songId);
    // what was changed while no server ran, or found by an older method, is looked at again
    void api.POST("/api/songs/{song_id}/look", { params: { path: { song_id: songId } } });
    localStorage.setItem("mivlo.song", String(songId));
  }

  async function start(): Promise<void> {
    try {
      songs.value = await ask(api.GET("/api/songs"));
      const last = Number(localStorage.getItem("mivlo.song"));
      const first = songs.value.find((s) => s.id === last) ?? songs.value[0];
      if (first) await open(first.id);
    } catch (problem) {
      complain(problem);
    } finally {
      loading.value = false;
    }
  }

  async function create(name: string, sampleRate: number): Promise<void> {
    const made = await ask(api.POST("/api/songs", { body: { name, sample_rate: sampleRate } }));
    songs.value = await ask(api.GET("/api/songs"));
    await open(made.id);
  }

  /** What a change of a strip is made against: only a change of the same strip conflicts. */
  const strip = (now: Song, stripId: number) => ({ strip_revision: now.strips.find((x) => x.id === stripId)?.revision ?? null });
  const stripOf = (now: Song, moveId: number) => now.strips.find((x) => x.moves.some((m) => m.id === moveId))?.id ?? 0;
  type Body = paths["/api/songs/{song_id}/tracks/{track_id}/moves"]["post"]["requestBody"]["content"]["application/json"];

  const track = (trackId: number) => ({ song_id: id.value, track_id: trackId });
  const finding = (findingId: number) => ({ song_id: id.value, finding_id: findingId });
  const move = (moveId: number) => ({ song_id: id.value, move_id: moveId });

  return {
    songs, song, tasks, openTasks, lookingAt, foundTold, savedAt, loading, id, tracks,
    start, open, create, reload, refreshTasks,
    rename: (name: string) =>
      change(({ outline }) => ask(api.PATCH("/api/songs/{song_id}", { params: { path: at() }, body: { outline, name } }))),
    setPassage: (from: number | null, to: number | null) =>
      change(({ outline }) =>
        ask(api.PATCH("/api/songs/{song_id}", { params: { path: at() }, body: { outline, passage_from_s: from, passage_to_s: to } })),
      ),
    changeTrack: (trackId: number, values: Partial<Pick<Track, "name" | "role" | "fader_db" | "pan" | "mute" | "solo">>) =>
      change((now) =>
        ask(api.PATCH("/api/songs/{song_id}/tracks/{track_id}", { params: { path: track(trackId) }, body: { ...strip(now, trackId), ...values } })),
      ),
    deleteTrack: (trackId: number) =>
      change((now) =>
        ask(api.DELETE("/api/songs/{song_id}/tracks/{track_id}", { params: { path: track(trackId), query: strip(now, trackId) } })),
      ),
    reorder: (order: number[]) =>
      change(({ outline }) => ask(api.PUT("/api/songs/{song_id}/order", { params: { path: at() }, body: { outline, order } }))),
    addMove: (trackId: number, values: NewMove) =>
      change((now) => {
        const body = { ...strip(now, trackId), ...values } as Body;
        return ask(api.POST("/api/songs/{song_id}/tracks/{track_id}/moves", { params: { path: track(trackId) }, body }));
      }),
    changeMove: (moveId: number, values: Partial<Omit<Move, "id" | "octaves">>) =>
      change((now) =>
        ask(api.PATCH("/api/songs/{song_id}/moves/{move_id}", {
          params: { path: move(moveId) }, body: { ...strip(now, stripOf(now, moveId)), ...values },
        })),
      ),
    deleteMove: (moveId: number) =>
      change((now) =>
        ask(api.DELETE("/api/songs/{song_id}/moves/{move_id}", {
          params: { path: move(moveId), query: strip(now, stripOf(now, moveId)) },
        })),
      ),
    lookInPassage: (on: boolean) =>
      change(({ outline }) => ask(api.PATCH("/api/songs/{song_id}", { params: { path: at() }, body: { outline, look_in_passage: on } }))),
    /** Make the proposed move, or the one into which it was adjusted. */
    acceptFinding: (findingId: number, adjusted: Move | null = null) =>
      change(() => {
        const body = { move: adjusted && (valuesOf(adjusted) as Body) };
        return ask(api.POST("/api/songs/{song_id}/findings/{finding_id}/accept", { params: { path: finding(findingId) }, body }));
      }),
    rejectFinding: (findingId: number) =>
      change(() => ask(api.POST("/api/songs/{song_id}/findings/{finding_id}/reject", { params: { path: finding(findingId) }, body: {} }))),
    reopenFinding: (findingId: number) =>
      change(() => ask(api.POST("/api/songs/{song_id}/findings/{finding_id}/reopen", { params: { path: finding(findingId) }, body: {} }))),
    undo: () => change(() => ask(api.POST("/api/songs/{song_id}/undo", { params: { path: at() } }))),
    redo: () => change(() => ask(api.POST("/api/songs/{song_id}/redo", { params: { path: at() } }))),
    cancel: (taskId: number) =>
      ask(api.POST("/api/tasks/{task_id}/cancel", { params: { path: { task_id: taskId } } })).catch(complain),
  };
});
