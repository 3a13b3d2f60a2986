<script setup lang="ts">
/** Keeping a song: a backup as a file, bringing one back, and the room on the server's disk. */
import { useQuery } from "@tanstack/vue-query";
import { ElButton, ElMessageBox } from "element-plus";
import { computed, ref, watch } from "vue";
import { api, ask, restore } from "../../api/client";
import { cache } from "../../data/cache";
import { diskQuery, songsQuery } from "../../data/queries";
import { complain, tell } from "../../lib/complain";
import { writeSize } from "../../lib/notes";
import { useSong } from "../../stores/song";
import { useTasks } from "../../stores/tasks";
import TaskList from "../TaskList.vue";

const song = useSong();
const tasks = useTasks();
const sending = ref<{ name: string; share: number }[]>([]);
const picker = ref<HTMLInputElement>();

const backups = computed(() => tasks.all.filter((t) => t.kind === "backup"));
const { data: disk, refetch } = useQuery(diskQuery(), cache);
watch(() => tasks.open.length, () => void refetch());

async function backUp(): Promise<void> {
  try {
    await ask(api.POST("/api/songs/{song_id}/backups", { params: { path: { song_id: song.id } } }));
    await tasks.refresh();
  } catch (problem) {
    complain(problem);
  }
}

async function bringBack(event: Event): Promise<void> {
  const input = event.target as HTMLInputElement;
  const file = input.files?.[0];
  input.value = "";
  if (!file) return;
  sending.value = [{ name: file.name, share: 0 }];
  try {
    const { song_ids } = await restore(file, (share) => (sending.value = [{ name: file.name, share }]));
    await cache.fetchQuery({ ...songsQuery(), staleTime: 0 });
    if (song_ids[0]) await song.open(song_ids[0]);
    tell(song_ids.length === 1 ? `Restored: ${song.song?.name ?? file.name}` : `${song_ids.length} songs were restored.`);
  } catch (problem) {
    complain(problem);
  } finally {
    sending.value = [];
    void refetch();
  }
}

async function free(what: "exports" | "caches"): Promise<void> {
  if (what === "exports") {
    try {
      await ElMessageBox.confirm("The files of all exports and backups made here are removed from the server, those of other songs as well. Songs and recordings stay.", "Remove exports?", {
        confirmButtonText: "Remove", cancelButtonText: "Keep",
      });
    } catch {
      return;
    }
  }
  try {
    const { freed } = await ask(api.POST("/api/disk/tidy", { body: { exports: what === "exports", caches: what === "caches" } }));
    tell(`${writeSize(freed)} were freed.`);
  } catch (problem) {
    complain(problem);
  }
  void refetch();
}
</script>

<template>
  <section class="keep panel" aria-label="Keep">
    <h1>Keep</h1>
    <p class="soft">A backup holds the recordings as they came, all decisions and the whole history, in open formats.</p>
    <div class="row">
      <ElButton data-test="backup" :disabled="!song.id" @click="backUp">Make a backup of this song</ElButton>
      <ElButton :disabled="sending.length > 0" @click="picker?.click()">Restore from a backup …</ElButton>
      <input ref="picker" data-test="restore" type="file" accept=".zip,application/zip" hidden @change="bringBack" />
    </div>
    <TaskList :tasks="backups" :sending="sending" />
    <dl v-if="disk" class="disk" data-test="disk">
      <dt>Free on the server's disk</dt><dd class="figure">{{ writeSize(disk.free) }}</dd><dd></dd>
      <dt>Files of exports and backups</dt><dd class="figure">{{ writeSize(disk.exports) }}</dd>
      <dd><button type="button" class="plain small" :disabled="!disk.exports" aria-label="Remove exports" @click="free('exports')">Remove …</button></dd>
      <dt>Caches, made again when needed</dt><dd class="figure">{{ writeSize(disk.caches) }}</dd>
      <dd><button type="button" class="plain small" :disabled="!disk.caches" aria-label="Empty caches" @click="free('caches')">Empty</button></dd>
    </dl>
  </section>
</template>

<style scoped>
.keep { padding: 14px 18px; display: flex; flex-direction: column; min-height: 0; overflow: auto; }
h1 { font-size: 17px; }
p { margin: 4px 0 8px; }
.row { display: flex; gap: 10px; margin-bottom: 10px; flex-wrap: wrap; }
.disk { display: grid; grid-template-columns: 1fr auto 92px; gap: 4px 14px; align-items: center; margin: auto 0 0; font-size: 12px; }
dt { color: var(--soft); }
dd { margin: 0; text-align: right; }
</style>
