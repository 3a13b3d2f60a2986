<script setup lang="ts">
/** Name, song, views, what was saved, undo and redo, help. */
import { useDark } from "@vueuse/core";
import { ElButton, ElDialog, ElInput, ElOption, ElSelect } from "element-plus";
import { computed, onMounted, ref, watch } from "vue";
import { useRouter } from "vue-router";
import { writeTime } from "../lib/notes";
import { complain } from "../lib/complain";
import { api, ask } from "../api/client";
import HistoryMenu from "./HistoryMenu.vue";
import SnapshotsMenu from "./SnapshotsMenu.vue";
import { useAway } from "../stores/away";
import { useSong } from "../stores/song";
import { useChanges } from "../stores/changes";

const song = useSong();
const changes = useChanges();
const away = useAway();
const router = useRouter();
const making = ref(false);
const name = ref("");
const rate = ref(48000);
const night = useDark({ attribute: "data-theme", valueDark: "night", valueLight: "day", storageKey: "mivlo.theme", initialValue: "light" });

const emit = defineEmits<{
  help: [];
  /** A dialog of the header opened or closed. */
  asking: [open: boolean];
}>();
watch(making, (open) => emit("asking", open));

const facts = computed(() => {
  const s = song.song;
  return s ? `${s.tracks.length} tracks · ${writeTime(s.duration_s, 0)} · ${s.sample_rate / 1000} kHz` : "";
});
const saved = computed(() => {
  if (away.missing) return away.waiting ? "Not saved" : "Nothing to save";
  if (away.waiting) return "Saving …";
  return changes.savedAt ? `Saved ${changes.savedAt.toTimeString().slice(0, 5)}` : "All saved";
});
const signedIn = ref(false);
onMounted(async () => {
  const health = await ask(api.GET("/api/health")).catch(() => null);
  signedIn.value = health?.signed_in ?? false;
});

function choose(value: number | string): void {
  if (value === "new") {
    name.value = "";
    making.value = true;
  } else {
    song.open(Number(value)).catch(complain);
  }
}

async function create(): Promise<void> {
  try {
    await song.create(name.value, rate.value);
    making.value = false;
    await router.push({ name: "tracks" });
  } catch (problem) {
    complain(problem);
  }
}
</script>

<template>
  <header class="top">
    <span class="mark">mivlo</span>
    <ElSelect :model-value="song.song?.id" class="song" size="small" aria-label="Song" placeholder="No song" @change="choose">
      <ElOption v-for="s in song.songs" :key="s.id" :value="s.id" :label="s.id === song.id ? (song.song?.name ?? s.name) : s.name" />
      <ElOption value="new" label="New song …" />
    </ElSelect>
    <span class="soft facts">{{ facts }}</span>
    <nav aria-label="Views">
      <RouterLink :to="{ name: 'tracks' }">Tracks</RouterLink>
      <RouterLink :to="{ name: 'bench' }">Bench</RouterLink>
      <RouterLink :to="{ name: 'clashes' }">Clashes</RouterLink>
      <RouterLink :to="{ name: 'handover' }">Handover</RouterLink>
    </nav>
    <span class="right">
      <span class="soft" role="status">{{ saved }}</span>
      <button type="button" class="plain small" :disabled="!song.song?.undo_label" :title="song.song?.undo_label ? `Undo: ${song.song.undo_label}` : 'Nothing to undo'" @click="changes.undo()">Undo</button>
      <button type="button" class="plain small" :disabled="!song.song?.redo_label" :title="song.song?.redo_label ? `Redo: ${song.song.redo_label}` : 'Nothing to redo'" @click="changes.redo()">Redo</button>
      <HistoryMenu />
      <SnapshotsMenu />
      <button type="button" class="plain small" :aria-pressed="night" @click="night = !night">Night</button>
      <button type="button" class="plain small" @click="emit('help')">Keys</button>
      <form v-if="signedIn" method="post" action="/sign-out"><button class="plain small">Sign out</button></form>
    </span>
    <ElDialog v-model="making" append-to-body title="New song" width="380px">
      <form @submit.prevent="create">
        <label for="song-name">Name</label>
        <ElInput id="song-name" v-model="name" maxlength="120" autofocus />
        <label for="song-rate">Sample rate in Hz</label>
        <ElSelect id="song-rate" v-model="rate" aria-label="Sample rate in Hz">
          <ElOption v-for="r in [44100, 48000, 88200, 96000, 176400, 192000]" :key="r" :value="r" :label="r" />
        </ElSelect>
        <div class="buttons"><ElButton type="primary" native-type="submit" :disabled="!name.trim()">Make the song</ElButton></div>
      </form>
    </ElDialog>
  </header>
</template>

<style scoped>
.top { display: grid; grid-template-columns: auto 170px auto 1fr auto; align-items: center; gap: 14px; padding: 0 18px; height: 44px; background: var(--panel); border-bottom: 1px solid var(--line); }
.mark { font-size: 20px; font-weight: 600; letter-spacing: 0.01em; }
.facts { font-size: 12px; white-space: nowrap; }
nav { display: flex; gap: 20px; justify-content: center; align-self: stretch; }
nav a { color: var(--soft); text-decoration: none; font-size: 14px; display: flex; align-items: center; border-bottom: 3px solid transparent; border-top: 3px solid transparent; }
nav a.router-link-active { color: var(--ink); font-weight: 600; border-bottom-color: var(--stand-out); }
.right { display: flex; gap: 5px; align-items: center; font-size: 12px; white-space: nowrap; }
label { display: block; margin: 8px 0 3px; font-size: 12px; color: var(--soft); }
.buttons { margin-top: 16px; text-align: right; }
</style>
