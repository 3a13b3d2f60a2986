<script setup lang="ts">
/** The song: bring tracks in, name them, set faders, choose the passage. */
import { ElMessage } from "element-plus";
import { computed, onMounted, ref, shallowRef, watch } from "vue";
import { useRouter } from "vue-router";
import { type Repeat, type Track, api, ask, upload } from "../api/client";
import NumberField from "../components/NumberField.vue";
import TaskList from "../components/TaskList.vue";
import WaveLane from "../components/WaveLane.vue";
import { filesOf } from "../lib/drop";
import { lookState } from "../lib/findings";
import { useLive } from "../live/session";
import { useBench } from "../stores/bench";
import { writeHz } from "../lib/notes";
import { complain, useSong } from "../stores/song";

const ROLES = ["voice", "drums", "percussion", "bass", "guitar", "keys", "strings", "brass", "winds", "mallets", "room", "other"] as const;

const song = useSong();
const live = useLive();
const bench = useBench();
const router = useRouter();
const over = ref(false);
const picker = ref<HTMLInputElement | null>(null);
const sending = ref<{ name: string; share: number }[]>([]);
const imports = computed(() => song.tasks.filter((t) => t.kind === "import"));
const lifted = ref<number | null>(null);

onMounted(() => live.setFocus(null));
watch(() => live.connected, (yes) => yes && live.setFocus(null));
watch(() => live.state.focus, (focus) => focus === null && live.state.scope === "alone" && live.setScope("mix"));

/** Send files one after the other; one that fails does not stop the others. */
async function bring(files: File[]): Promise<void> {
  if (!song.song) return;
  for (const file of files) {
    const line = { name: file.name, share: 0 };
    sending.value.push(line);
    const shown = sending.value[sending.value.length - 1];
    try {
      await upload(song.id, file, (share) => shown && (shown.share = share));
    } catch (problem) {
      complain(problem);
    }
    sending.value = sending.value.filter((l) => l !== shown);
  }
  await song.refreshTasks().catch(complain);
}

async function drop(event: DragEvent): Promise<void> {
  over.value = false;
  if (!event.dataTransfer || lifted.value !== null) return;
  await bring(await filesOf(event.dataTransfer));
}

function picked(event: Event): void {
  const input = event.target as HTMLInputElement;
  void bring([...(input.files ?? [])]);
  input.value = "";
}

function shift(track: Track, by: number): void {
  const order = song.tracks.map((t) => t.id);
  const i = order.indexOf(track.id);
  if (i + by < 0 || i + by >= order.length) return;
  order.splice(i + by, 0, ...order.splice(i, 1));
  void song.reorder(order);
}

function dropOn(track: Track): void {
  const moving = lifted.value;
  lifted.value = null;
  if (moving === null || moving === track.id) return;
  const order = song.tracks.map((t) => t.id).filter((id) => id !== moving);
  const target = song.tracks.findIndex((t) => t.id === track.id);
  order.splice(target, 0, moving);
  void song.reorder(order);
}

async function remove(track: Track): Promise<void> {
  if (await song.deleteTrack(track.id)) {
    ElMessage({ message: `${track.name} was taken out of the song. Undo brings it back with its moves.`, duration: 5000 });
  }
}

/** What is being typed as a name: it must outlast news of the song that arrive meanwhile. */
const draft = ref<{ id: number; name: string } | null>(null);

function rename(track: Track, event: Event): void {
  const input = event.target as HTMLInputElement;
  const name = input.value.trim();
  draft.value = null;
  if (name && name !== track.name) void song.changeTrack(track.id, { name });
  else input.value = track.name;
}

/** What stands out at the same place in several tracks: said once. */
const repeats = shallowRef<Repeat[]>([]);
watch([() => song.id, () => song.foundTold.count, () => song.song?.revision], async () => {
  if (!song.id) return void (repeats.value = []);
  try {
    repeats.value = await ask(api.GET("/api/songs/{song_id}/repeats", { params: { path: { song_id: song.id } } }));
  } catch (problem) {
    complain(problem);
  }
}, { immediate: true });
const names = (repeat: Repeat) => repeat.track_ids.map((id) => song.tracks.find((t) => t.id === id)?.name ?? "").join(", ");

const looking = (track: Track) => lookState(song.lookingAt(track.name));
const level = (track: Track) => live.report.tracks[track.id] ?? -120;
const meter = (db: number) => `${Math.max(0, Math.min(100, ((db + 60) / 60) * 100))}%`;
const seconds = (track: Track) => (track.frames / (song.song?.sample_rate ?? 48000)).toFixed(1);

function openBench(track: Track): void {
  bench.look(track.id);
  void router.push({ name: "bench", params: { track: track.id } });
}
</script>

<template>
  <main class="tracks" :class="{ over }" @dragover.prevent="over = lifted === null" @dragleave="over = false" @drop.prevent="drop">
    <div class="bar">
      <h1>Tracks</h1>
      <button type="button" class="plain" :disabled="!song.song" @click="picker?.click()">Bring files in …</button>
      <input ref="picker" type="file" multiple class="hidden-text" tabindex="-1" aria-label="Sound files" data-test="picker" @change="picked" />
      <span class="soft">or drop files or a folder anywhere here: WAV, FLAC, AIFF, OGG, MP3</span>
    </div>
    <p v-if="repeats.length" class="repeats" data-test="repeats">
      <span class="caption">In several tracks</span>
      <span v-for="r in repeats.slice(0, 4)" :key="`${r.kind} ${r.frequency_hz}`" :title="names(r)">
        <b>{{ r.kind }}</b> <span class="figure">{{ writeHz(r.frequency_hz) }} Hz</span> in {{ r.track_ids.length }} tracks
      </span>
    </p>
    <TaskList :tasks="imports" :sending="sending" hide-done />
    <div class="list" role="list">
      <div
        v-for="track in song.tracks" :key="track.id" class="lane-row" role="listitem" :aria-label="track.name"
        @dragover.prevent @drop.stop.prevent="dropOn(track)"
      >
        <div class="grip" draggable="true" title="drag to reorder" aria-hidden="true" @dragstart="lifted = track.id" @dragend="lifted = null">⋮⋮</div>
        <div class="who">
          <input class="name" :value="draft?.id === track.id ? draft.name : track.name" :aria-label="`Name of ${track.name}`" @input="draft = { id: track.id, name: ($event.target as HTMLInputElement).value }" @change="rename(track, $event)" @keydown.enter="($event.target as HTMLInputElement).blur()" />
          <div class="second">
            <select :value="track.role" :aria-label="`Role of ${track.name}`" @change="song.changeTrack(track.id, { role: ($event.target as HTMLSelectElement).value as Track['role'] })">
              <option v-for="role in ROLES" :key="role" :value="role">{{ role }}</option>
            </select>
            <span class="soft figure">{{ track.channels === 1 ? "mono" : "stereo" }} {{ seconds(track) }} s</span>
          </div>
        </div>
        <div class="buttons">
          <button type="button" class="plain small" :aria-pressed="track.solo" :aria-label="`Solo ${track.name}`" @click="song.changeTrack(track.id, { solo: !track.solo })">Solo</button>
          <button type="button" class="plain small" :aria-pressed="track.mute" :aria-label="`Mute ${track.name}`" @click="song.changeTrack(track.id, { mute: !track.mute })">Mute</button>
        </div>
        <div class="mix">
          <NumberField compact :label="`Fader`" unit="dB" :model-value="track.fader_db" :min="-100" :max="12" :step="0.5" @change="song.changeTrack(track.id, { fader_db: Number($event.toFixed(2)) })" />
          <NumberField compact label="Pan" unit="%" :model-value="track.pan * 100" :min="-100" :max="100" :step="5" :digits="0" @change="song.changeTrack(track.id, { pan: Number(($event / 100).toFixed(3)) })" />
        </div>
        <div class="level" aria-hidden="true"><i :style="{ width: meter(level(track)) }" /></div>
        <div class="wave"><WaveLane :track="track" /></div>
        <div class="more">
          <span class="first">
            <span class="found" data-test="found">
              <template v-if="looking(track)">{{ looking(track) }}</template>
              <template v-else-if="track.open_findings || track.decided_findings"><b v-if="track.open_findings">{{ track.open_findings }} open</b><template v-if="track.decided_findings">{{ track.open_findings ? " · " : "" }}{{ track.decided_findings }} decided</template></template>
              <template v-else>nothing stands out</template>
            </span>
            <button type="button" class="plain small bench-button" @click="openBench(track)">Bench<span v-if="track.moves.length" class="figure"> · {{ track.moves.length }}</span></button>
          </span>
          <span>
            <button type="button" class="plain small quiet" :aria-label="`Move ${track.name} up`" @click="shift(track, -1)">↑</button>
            <button type="button" class="plain small quiet" :aria-label="`Move ${track.name} down`" @click="shift(track, 1)">↓</button>
            <button type="button" class="plain small quiet" :aria-label="`Delete ${track.name}`" @click="remove(track)">Delete</button>
          </span>
        </div>
        <p v-if="track.notice" class="notice" role="note">{{ track.notice }}</p>
      </div>
      <p v-if="!song.tracks.length && !song.loading" class="empty soft">
        {{ song.song ? "No tracks yet. Drop a folder of recordings here." : "No song yet. Choose New song in the list at the top." }}
      </p>
    </div>
  </main>
</template>

<style scoped>
.tracks { height: 100%; display: flex; flex-direction: column; padding: 12px 18px 0; min-height: 0; border: 2px dashed transparent; }
.tracks.over { border-color: var(--treat); background: var(--treat-soft); }
.bar { display: flex; align-items: center; gap: 14px; padding-bottom: 8px; }
h1 { font-size: 17px; }
.list { overflow: auto; min-height: 0; flex: 1; padding-bottom: 12px; }
.lane-row {
  display: grid; grid-template-columns: 16px 190px 96px 112px 46px 1fr 196px; gap: 10px; align-items: center; min-height: 58px;
  background: var(--panel); border: 1px solid var(--line); border-bottom-width: 0; padding: 4px 10px 4px 6px;
}
.lane-row:last-of-type { border-bottom-width: 1px; }
.grip { cursor: grab; color: var(--soft); letter-spacing: -2px; }
.name { border: 0; border-bottom: 1px solid transparent; background: none; color: var(--ink); font: 600 13.5px var(--sans); width: 100%; padding: 0; }
.name:hover, .name:focus { border-color: var(--line); }
.second { display: flex; gap: 8px; font-size: 11px; align-items: center; }
.second select { font: 11px var(--sans); color: var(--ink); background: transparent; border: 0; padding: 0; }
.buttons { display: flex; gap: 4px; }
.mix { display: flex; flex-direction: column; gap: 1px; }
.mix > * { justify-content: space-between; }
.level { height: 6px; background: var(--paper); border: 1px solid var(--line); }
.level i { display: block; height: 100%; background: var(--ink); }
.wave { height: 50px; min-width: 0; }
.more { display: flex; flex-direction: column; align-items: flex-end; gap: 2px; }
.bench-button { min-width: 84px; border-color: var(--treat); color: var(--treat); }
.first { display: flex; gap: 8px; align-items: baseline; }
.found { font-size: 11px; color: var(--soft); white-space: nowrap; }
.found b { color: var(--stand-out); font-weight: 600; }
.repeats { display: flex; gap: 20px; align-items: baseline; margin: 0 0 7px; font-size: 12px; }
.repeats b { color: var(--stand-out); font-weight: 600; }
.notice { grid-column: 2 / -1; margin: 0; font-size: 12px; color: var(--stand-out); }
.empty { text-align: center; padding: 60px; font-size: 15px; }
</style>
