<script setup lang="ts">
/** The song: bring tracks in, name them, set faders, choose the passage. */
import { useQuery } from "@tanstack/vue-query";
import { until, useLocalStorage } from "@vueuse/core";
import { computed, onMounted, ref, watch } from "vue";
import { useRouter } from "vue-router";
import { type Repeat, type Strip, upload } from "../api/client";
import OffersLine from "../components/tracks/OffersLine.vue";
import TaskList from "../components/TaskList.vue";
import TrackRow from "../components/tracks/TrackRow.vue";
import { cache } from "../data/cache";
import { repeatsQuery } from "../data/queries";
import { complain, note } from "../lib/complain";
import { FADER_MARKS, faderShare } from "../lib/faders";
import { filesOf, isSheet } from "../lib/drop";
import { writeHz } from "../lib/notes";
import { isWithin, stepped } from "../lib/tree";
import { useLive } from "../live/session";
import { useBench } from "../stores/bench";
import { useChanges } from "../stores/changes";
import { useSheets } from "../stores/sheets";
import { useSong } from "../stores/song";
import { useTasks } from "../stores/tasks";

const { putSheets } = useSheets();
const song = useSong();
const live = useLive();
const bench = useBench();
const changes = useChanges();
const tasks = useTasks();
const router = useRouter();
const over = ref(false);
const picker = ref<HTMLInputElement | null>(null);
const sending = ref<{ name: string; share: number }[]>([]);
const imports = computed(() => tasks.all.filter((t) => t.kind === "import" || t.kind === "pair"));
const lifted = ref<number | null>(null);

onMounted(() => live.setFocus(null));
watch(() => live.connected, (yes) => yes && live.setFocus(null));
watch(() => live.state.focus, (focus) => focus === null && live.state.scope === "alone" && live.setScope("mix"));

/** Send files one after the other; one that fails does not stop the others. */
async function bring(files: File[]): Promise<void> {
  await until(() => song.loading).toBe(false); // a page that has just been opened takes files already
  if (song.songs.length) await until(() => song.id).toMatch((id) => id > 0);
  else return complain("There is no song yet that files could go into: make one first (New song …).");
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
  await tasks.refresh().catch(complain);
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

function shift(strip: Strip, by: 1 | -1): void {
  const place = stepped(song.rows, strip.id, by);
  if (place) void changes.route(strip.id, place);
}

/** Where what is lifted would go: the row that the pointer is on, and whether into it. */
const target = ref<{ id: number; into: boolean } | null>(null);
const EDGE = 0.3;

function aim(strip: Strip, event: DragEvent): void {
  if (lifted.value === null) return;
  const row = (event.currentTarget as HTMLElement).getBoundingClientRect();
  // the upper edge of a group is the place in front of it
  const into = strip.kind === "mix" || (strip.kind === "group" && event.clientY > row.top + EDGE * row.height);
  target.value = isWithin(song.strips, strip.id, lifted.value) ? null : { id: strip.id, into };
}

/** A sheet dropped on a strip is put on it; other files are brought in. */
async function dropOn(strip: Strip, event: DragEvent): Promise<void> {
  over.value = false;
  if (lifted.value === null && event.dataTransfer?.types.includes("Files")) {
    const files = await filesOf(event.dataTransfer);
    await putSheets(strip, files.filter(isSheet));
    await bring(files.filter((f) => !isSheet(f)));
    return;
  }
  const [moving, to] = [lifted.value, target.value];
  lifted.value = target.value = null;
  if (moving === null || to?.id !== strip.id) return;
  if (to.into) void changes.route(moving, { parent: strip.kind === "group" ? strip.id : null, before: null });
  else void changes.route(moving, { parent: strip.parent_id, before: strip.id });
}

/** A new group, with what is dropped on the button. */
async function group(): Promise<void> {
  const moving = lifted.value;
  lifted.value = target.value = null;
  await changes.addGroup(`Group ${song.groups.length + 1}`, moving === null ? [] : [moving]);
}

async function remove(strip: Strip): Promise<void> {
  if (!(await changes.deleteTrack(strip.id))) return;
  const what = strip.kind === "group" ? "is no group any more: what was in it runs into the mix" : "was taken out of the song";
  note(`${strip.name} ${what}. Undo brings it back with its moves.`);
}

/** What stands out at the same place in several tracks: said once. */
const { data: repeats } = useQuery(computed(() => repeatsQuery(song.id)), cache);
const names = (repeat: Repeat) => repeat.track_ids.map((id) => song.trackOf(id)?.name ?? "").join(", ");

/** Rows are low once there are more than fit, unless somebody says otherwise. */
const MOST_TALL = 9;
const rows = useLocalStorage<"" | "tall" | "compact">("mivlo.rows", "");
const compact = computed(() => (rows.value ? rows.value === "compact" : song.rows.length > MOST_TALL));

const shownRows = computed(() => (song.tracks.length ? song.rows : song.rows.filter((r) => r.strip.kind !== "mix")));
const aimedAt = (id: number) => (target.value?.id === id ? (target.value.into ? "into" : "before") : "");

function lift(strip: Strip, up: boolean): void {
  lifted.value = up ? strip.id : null;
  if (!up) target.value = null;
}

function openBench(track: Strip): void {
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
      <button
        v-if="song.tracks.length" type="button" class="plain" :class="{ aimed: lifted !== null }" title="press, or drop a track here"
        @click="group" @dragover.prevent @drop.stop.prevent="group"
      >
        New group
      </button>
      <button type="button" class="plain small rows" :aria-pressed="compact" @click="rows = compact ? 'tall' : 'compact'">low rows</button>
      <span class="soft">or drop files or a folder anywhere here: WAV, FLAC, AIFF, OGG, MP3</span>
    </div>
    <p v-if="repeats?.length" class="repeats" data-test="repeats">
      <span class="caption">In several tracks</span>
      <span v-for="r in repeats.slice(0, 4)" :key="`${r.kind} ${r.frequency_hz}`" :title="names(r)">
        <b>{{ r.kind }}</b> <span class="figure">{{ writeHz(r.frequency_hz) }} Hz</span> in {{ r.track_ids.length }} tracks
      </span>
    </p>
    <OffersLine />
    <TaskList :tasks="imports" :sending="sending" hide-done />
    <div v-if="song.tracks.length" class="heads soft" :class="{ compact }" aria-hidden="true">
      <span /><span>Track</span><span />
      <span class="scale"><span class="figure"><i v-for="db in FADER_MARKS.slice(1)" :key="db" :style="{ left: `${100 * faderShare(db)}%` }">{{ String(db).replace("-", "\u2212") }}</i></span><span>dB</span></span>
      <span class="pan"><i>L</i><i>R</i></span><span>Passage</span><span />
    </div>
    <div class="list" :class="{ compact }" role="list">
      <TrackRow
        v-for="row in shownRows" :key="row.strip.id" :row="row" :compact="compact" :class="aimedAt(row.strip.id)" @dragover.prevent="aim(row.strip, $event)"
        @drop.stop.prevent="dropOn(row.strip, $event)" @lift="lift(row.strip, $event)" @shift="shift(row.strip, $event)" @remove="remove(row.strip)" @bench="openBench(row.strip)"
      />
      <p v-if="!song.tracks.length && !song.loading" class="empty soft">
        {{ song.song ? "No tracks yet. Drop a folder of recordings here." : "No song yet. Choose New song in the list at the top." }}
      </p>
    </div>
  </main>
</template>

<style scoped>
.tracks { height: 100%; display: flex; flex-direction: column; padding: 12px 18px 0; min-height: 0; border: 2px dashed transparent; }
.tracks.over { border-color: var(--treat); background: var(--treat-soft); }
.rows { order: 9; margin-left: auto; }
.aimed { outline: 2px dashed var(--treat); outline-offset: 2px; }
.bar { display: flex; align-items: center; gap: 14px; padding-bottom: 8px; }
h1 { font-size: 17px; }
.list, .heads { --lane-columns: 14px 166px 114px 190px 104px minmax(120px, 1fr) 196px; --lane-gap: 10px; }
.list.compact, .heads.compact { --lane-columns: 14px 172px 106px 186px 98px minmax(110px, 1fr) 276px; --lane-gap: 8px; }
.heads { display: grid; grid-template-columns: var(--lane-columns); gap: var(--lane-gap); padding: 0 11px 1px 7px; font-size: 10px; line-height: 13px; scrollbar-gutter: stable; overflow: hidden; flex: none; }
.heads i { font-style: normal; }
.scale { display: grid; grid-template-columns: 1fr 52px; gap: 8px; }
.scale > :first-child { position: relative; height: 13px; }
.scale > :last-child { text-align: right; }
.scale i { position: absolute; transform: translateX(-50%); font-size: 9px; }
.pan { display: flex; justify-content: space-between; padding-right: 56px; }
.list { scrollbar-gutter: stable; overflow: auto; min-height: 0; flex: 1; }
.repeats { display: flex; gap: 20px; align-items: baseline; margin: 0 0 7px; font-size: 12px; }
.repeats b { color: var(--stand-out); font-weight: 600; }
.empty { text-align: center; padding: 60px; font-size: 15px; }
</style>
