<script setup lang="ts">
import { onMounted, ref, watch } from "vue";
import { useRouter } from "vue-router";
import AppHeader from "./components/AppHeader.vue";
import AwayBar from "./components/AwayBar.vue";
import KeysDialog from "./components/KeysDialog.vue";
import TransportBar from "./components/transport/TransportBar.vue";
import { useKeys } from "./lib/keys";
import { useLive } from "./live/session";
import { useSong } from "./stores/song";
import { useView } from "./stores/view";
import { useChanges } from "./stores/changes";
import { useCompanions } from "./stores/companions";
import { useSnapshots } from "./stores/snapshots";

const song = useSong();
const live = useLive();
const view = useView();
const changes = useChanges();
const companions = useCompanions();
const snapshots = useSnapshots();
const router = useRouter();
const help = ref(false);
const asking = ref(false);

onMounted(() => void song.start());
watch(() => song.id, (id) => (id ? live.connect(id) : live.disconnect()));

const toggle = (wanted: "untreated" | "removed") => live.setSignal(live.state.signal === wanted ? "treated" : wanted);
const goTo = (name: string) => () => void router.push({ name });

useKeys({
  "listen.play": () => void live.togglePlay(),
  "listen.alone": (event) => (event.type === "keyup" ? companions.back() : companions.next()),
  "listen.untreated": () => toggle("untreated"),
  "listen.removed": () => toggle("removed"),
  "listen.match": () => live.setMatch(!live.state.matching),
  "listen.companion": () => live.state.focus !== null && companions.mark(live.state.focus),
  "listen.mono": () => live.setMonitor(!live.state.mono, live.state.dim),
  "listen.dim": () => live.setMonitor(live.state.mono, !live.state.dim),
  "song.bypass": () => live.setBypass(!live.state.bypassed),
  "move.bypass": () => toggle("untreated"),
  "listen.start": () => live.seek(view.passage?.from ?? 0),
  "listen.back": () => live.seek(Math.max(0, live.position - 1)),
  "listen.on": () => live.seek(live.position + 1),
  "listen.from": () => void changes.setPassage(live.position, Math.max(live.position + 0.5, view.passage?.to ?? song.duration)),
  "listen.to": () => void changes.setPassage(Math.min(view.passage?.from ?? 0, Math.max(0, live.position - 0.5)), Math.max(0.5, live.position)),
  "song.undo": () => void changes.undo(),
  "song.redo": () => void changes.redo(),
  "song.keys": () => (help.value = !help.value),
  "compare.snapshot": () => void snapshots.keep(null, snapshots.nextName),
  "compare.switch": () => void snapshots.other(),
  "screen.tracks": goTo("tracks"),
  "screen.bench": goTo("bench"),
  "screen.clashes": goTo("clashes"),
  "screen.handover": goTo("handover"),
});
</script>

<template>
  <!-- what lies under a dialog can't be reached meanwhile -->
  <div class="app" :inert="help || asking">
    <AppHeader @help="help = true" @asking="asking = $event" />
    <AwayBar />
    <RouterView class="view" />
    <TransportBar class="bottom" />
  </div>
  <KeysDialog v-model="help" />
</template>

<style scoped>
.app { display: grid; grid-template-rows: 44px auto minmax(0, 1fr) 116px; height: 100%; }
.view { grid-row: 3; min-height: 0; }
.bottom { grid-row: 4; }
</style>
