<script setup lang="ts">
import { onMounted, ref, watch } from "vue";
import { useRouter } from "vue-router";
import AppHeader from "./components/AppHeader.vue";
import KeysDialog from "./components/KeysDialog.vue";
import TransportBar from "./components/TransportBar.vue";
import { useKeys } from "./lib/keys";
import { useLive } from "./live/session";
import { useBench } from "./stores/bench";
import { useSong } from "./stores/song";

const song = useSong();
const live = useLive();
const bench = useBench();
const router = useRouter();
const help = ref(false);
const asking = ref(false);

onMounted(() => void song.start());
watch(() => song.id, (id) => (id ? live.connect(id) : live.disconnect()));

const toggle = (wanted: "untreated" | "removed") => live.setSignal(live.state.signal === wanted ? "treated" : wanted);

useKeys([
  { group: "Listening", keys: ["Space"], says: "play or pause", act: () => void live.togglePlay() },
  { group: "Listening", keys: ["a"], momentary: true, says: "this track alone or in the mix; held: only meanwhile", act: () => live.setScope(live.state.scope === "alone" ? "mix" : "alone") },
  { group: "Listening", keys: ["t"], momentary: true, says: "untreated or treated; held: only meanwhile", act: () => toggle("untreated") },
  { group: "Listening", keys: ["r"], momentary: true, says: "removed only or treated; held: only meanwhile", act: () => toggle("removed") },
  { group: "Listening", keys: ["m"], says: "match the level or not", act: () => live.setMatch(!live.state.matching) },
  { group: "Listening", keys: ["Home"], says: "to the start of the passage", act: () => live.seek(bench.passage?.from ?? 0) },
  { group: "Listening", keys: ["ArrowLeft"], says: "back by a second", act: () => live.seek(Math.max(0, live.position - 1)) },
  { group: "Listening", keys: ["ArrowRight"], says: "on by a second", act: () => live.seek(live.position + 1) },
  { group: "Listening", keys: ["i"], says: "passage starts here", act: () => void song.setPassage(live.position, Math.max(live.position + 0.5, bench.passage?.to ?? song.song?.duration_s ?? 1)) },
  { group: "Listening", keys: ["o"], says: "passage ends here", act: () => void song.setPassage(Math.min(bench.passage?.from ?? 0, Math.max(0, live.position - 0.5)), Math.max(0.5, live.position)) },
  { group: "Song", keys: ["Ctrl+z"], says: "undo", act: () => void song.undo() },
  { group: "Song", keys: ["Ctrl+Shift+z", "Ctrl+y"], says: "redo", act: () => void song.redo() },
  { group: "Song", keys: ["1"], says: "tracks", act: () => void router.push({ name: "tracks" }) },
  { group: "Song", keys: ["2"], says: "bench", act: () => void router.push({ name: "bench" }) },
  { group: "Song", keys: ["3"], says: "handover", act: () => void router.push({ name: "handover" }) },
  { group: "Song", keys: ["?"], says: "this list", act: () => (help.value = !help.value) },
]);
</script>

<template>
  <!-- what lies under a dialog can't be reached meanwhile -->
  <div class="app" :inert="help || asking">
    <AppHeader @help="help = true" @asking="asking = $event" />
    <RouterView class="view" />
    <TransportBar />
  </div>
  <KeysDialog v-model="help" />
</template>

<style scoped>
.app { display: grid; grid-template-rows: 44px minmax(0, 1fr) 116px; height: 100%; }
.view { min-height: 0; }
</style>
