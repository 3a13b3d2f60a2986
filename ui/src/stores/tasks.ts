/** Long work of the open song, and the news of the song while it is open. */

import { useQuery } from "@tanstack/vue-query";
import { useEventListener, useEventSource, useTimeoutFn } from "@vueuse/core";
import { defineStore } from "pinia";
import { computed, watch } from "vue";
import { type Task, api, ask } from "../api/client";
import { cache } from "../data/cache";
import { failedAgain, foundAnew, names, songChanged, tasksQuery } from "../data/queries";
import { complain } from "../lib/complain";
import { useAway } from "./away";
import { useSong } from "./song";

const SHORT_MS = 1500;

export const useTasks = defineStore("tasks", () => {
  const song = useSong();
  const away = useAway();
  const query = useQuery(computed(() => tasksQuery(song.id)), cache);
  const all = computed<readonly Task[]>(() => query.data.value ?? []);
  const open = computed(() => all.value.filter((t) => t.state === "waiting" || t.state === "running"));
  /** The task that looks for what stands out in a track, while it waits or runs. */
  const lookingAt = (name: string | undefined) => open.value.find((t) => t.kind === "analyse" && t.label === name) ?? null;

  const refresh = () => cache.invalidateQueries({ queryKey: names.tasks(song.id) });

  function takeProgress(told: { task_id: number; progress?: number }): void {
    const known = all.value.some((t) => t.id === told.task_id);
    if (!known || told.progress === undefined) return void refresh();
    const { progress } = told;
    cache.setQueryData<Task[]>(names.tasks(song.id), (tasks) => tasks?.map((t) => (t.id === told.task_id ? { ...t, progress } : t)));
  }

  const address = computed(() => (song.id ? `/api/songs/${song.id}/events` : undefined));
  const { eventSource, status } = useEventSource(address, [], { autoReconnect: { delay: 1000 } });
  const on = (kind: string, act: (told: string) => void) =>
    useEventListener(eventSource, kind, (event: Event) => act((event as MessageEvent<string>).data));
  on("song", (told) => {
    const { revision } = JSON.parse(told) as { revision: number };
    if (revision > (song.song?.revision ?? 0)) void songChanged(song.id);
  });
  on("task", (told) => takeProgress(JSON.parse(told) as { task_id: number; progress?: number }));
  on("watch", () => void cache.invalidateQueries({ queryKey: names.watch(song.id) }));
  on("survey", () => void cache.invalidateQueries({ queryKey: names.survey(song.id) }));
  on("findings", () => {
    void cache.invalidateQueries({ queryKey: names.song(song.id), exact: true });
    void foundAnew(song.id);
  });
  // what happened before the server listened for us was told to nobody
  on("ready", () => {
    away.back();
    void Promise.all([songChanged(song.id), refresh(), failedAgain()]);
  });
  on("away", () => away.lost("database"));
  // a short break comes with every other song; a longer one is the server's
  const { start } = useTimeoutFn(() => status.value !== "OPEN" && address.value && away.lost("server"), SHORT_MS, { immediate: false });
  watch(status, (now, before) => now !== "OPEN" && before === "OPEN" && start());

  const cancel = (taskId: number) =>
    ask(api.POST("/api/tasks/{task_id}/cancel", { params: { path: { task_id: taskId } } })).catch(complain);

  return { all, open, lookingAt, refresh, cancel };
});
