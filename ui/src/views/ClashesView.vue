<script setup lang="ts">
/** All tracks: who covers whom on one frequency axis, the carve that frees it, and the floor. */
import { useElementSize } from "@vueuse/core";
import { onBeforeUnmount, onMounted, ref } from "vue";
import FrequencyLine from "../components/bench/line/FrequencyLine.vue";
import RulerPanel from "../components/bench/RulerPanel.vue";
import ClashCard from "../components/clashes/ClashCard.vue";
import ClashList from "../components/clashes/ClashList.vue";
import ColumnsPanel from "../components/clashes/ColumnsPanel.vue";
import FloorPart from "../components/clashes/FloorPart.vue";
import FreePart from "../components/clashes/FreePart.vue";
import HarshPart from "../components/clashes/HarshPart.vue";
import OrderPart from "../components/clashes/OrderPart.vue";
import NumberField from "../components/NumberField.vue";
import { KEYMAP } from "../lib/keymap";
import { keyOf, useKeys } from "../lib/keys";
import { writeTime } from "../lib/notes";
import { type Tab, useClashes } from "../stores/clashes";
import { useChanges } from "../stores/changes";
import { useSong } from "../stores/song";
import { useTasks } from "../stores/tasks";
import { useView } from "../stores/view";

const HEADS = 36;
const TABS: readonly { value: Tab; label: string }[] = [
  { value: "clashes", label: "Clashes" }, { value: "order", label: "Importance" }, { value: "free", label: "Free a track" }, { value: "floor", label: "Floor" }, { value: "harsh", label: "2 to 5 kHz" },
];
const clashes = useClashes();
const song = useSong();
const view = useView();
const tasks = useTasks();
const changes = useChanges();
const panels = ref<HTMLElement | null>(null);
const { height } = useElementSize(panels);

onMounted(() => (clashes.open = true));
onBeforeUnmount(clashes.close);

function turn(to: Tab): void {
  clashes.leave();
  clashes.tab = to;
}

useKeys({
  "clash.next": () => clashes.step(1),
  "clash.before": () => clashes.step(-1),
  "clash.way": clashes.swap,
  "clash.carve": () => void clashes.accept(),
  "clash.all": clashes.switchAll,
  "finding.alone": () => clashes.hear("range"),
  "finding.without": () => clashes.hear("carve"),
  "finding.removed": () => clashes.hear("removed"),
  "finding.accept": () => void clashes.accept(),
  "finding.leave": clashes.leave,
  "view.whole": clashes.turnWhole,
  "view.all": view.showAll,
});
</script>

<template>
  <main class="clashes">
    <section class="middle">
      <div class="title">
        <h1>Who covers whom</h1>
        <button type="button" class="plain small" :aria-pressed="clashes.whole" :title="KEYMAP['view.whole'].says" @click="clashes.turnWhole()">{{ clashes.whole ? "whole song" : "passage" }}</button>
        <span v-if="clashes.found" class="soft" role="status">
          {{ writeTime(clashes.found.from_s) }} to {{ writeTime(clashes.found.to_s) }} · heard as if the mix ({{ clashes.found.mix_lufs.toFixed(1) }} LUFS) played at</span>
        <NumberField
          v-if="clashes.found" bare label="Playback level of the mix" unit="dB SPL" :model-value="song.song?.playback_db_spl ?? 79" :min="40" :max="110" :step="1" :digits="0"
          title="how loud the mix is taken to be heard: 79 dB SPL is usual in a small room" @change="changes.setPlayback($event)"
        />
        <span v-if="clashes.found" class="soft"><template v-if="clashes.stale">older than the song{{ clashes.whole ? "" : ", computing …" }}</template>
        </span>
        <template v-if="clashes.whole && clashes.stale">
          <span v-if="clashes.surveying" class="soft" role="status">looking {{ Math.round(100 * clashes.surveying.progress) }} %</span>
          <button v-if="clashes.surveying" type="button" class="plain small" @click="tasks.cancel(clashes.surveying.id)">Cancel</button>
          <button v-else type="button" class="plain small" @click="clashes.lookAtAll()">{{ clashes.found ? "Look again" : "Look at the whole song" }}</button>
        </template>
        <button v-for="id in clashes.opened" :key="id" type="button" class="plain small" title="as one column again" @click="clashes.openGroup(id, false)">
          {{ clashes.nameOf(id) }} as one
        </button>
        <button v-if="clashes.againstId !== null" type="button" class="plain small" @click="clashes.lookAtNone()">all against all</button>
        <button
          v-if="clashes.carves.length" type="button" class="plain small all" :aria-pressed="clashes.carvesOn" :title="KEYMAP['clash.all'].says" @click="clashes.switchAll()"
        >
          {{ clashes.carves.length }} {{ clashes.carves.length === 1 ? "carve" : "carves" }} {{ clashes.carvesOn ? "on" : "off" }} <kbd>{{ keyOf("clash.all") }}</kbd>
        </button>
      </div>
      <div v-if="song.tracks.length > 1" ref="panels" class="panels">
        <div class="ruler"><RulerPanel /></div>
        <ColumnsPanel />
        <div class="line"><FrequencyLine :height="Math.max(0, height - HEADS)" /></div>
      </div>
      <p v-else class="empty">A clash needs two tracks. <RouterLink :to="{ name: 'tracks' }">Bring some in</RouterLink>.</p>
      <p class="key soft">Filled: what is kept of each track's loudness. Hollow: what the others hide. Hatched: where one lies under another. Rooms are not listed.</p>
    </section>
    <aside class="right" aria-label="Clashes and carves">
      <div class="tabs" role="tablist" aria-label="What to do">
        <button v-for="t in TABS" :key="t.value" type="button" role="tab" :aria-selected="clashes.tab === t.value" @click="turn(t.value)">{{ t.label }}</button>
      </div>
      <template v-if="clashes.tab === 'clashes'">
        <ClashList />
        <ClashCard v-if="clashes.chosen" :clash="clashes.chosen" />
      </template>
      <OrderPart v-else-if="clashes.tab === 'order'" />
      <FreePart v-else-if="clashes.tab === 'free'" />
      <FloorPart v-else-if="clashes.tab === 'floor'" />
      <HarshPart v-else />
    </aside>
  </main>
</template>

<style scoped>
.clashes { display: grid; grid-template-columns: minmax(0, 1fr) 356px; height: 100%; min-height: 0; }
.middle { display: flex; flex-direction: column; padding: 8px 14px 6px 6px; min-width: 0; min-height: 0; }
.title { display: flex; align-items: baseline; gap: 12px; margin-left: 44px; padding-bottom: 4px; white-space: nowrap; }
.title h1 { font-size: 17px; }
.title .soft { font-size: 12px; overflow: hidden; text-overflow: ellipsis; }
.all { margin-left: auto; border-color: var(--clash); }
.panels { position: relative; display: grid; grid-template-columns: 44px minmax(0, 1fr); flex: 1; min-height: 0; }
.ruler { padding-top: 36px; min-height: 0; }
.line { position: absolute; left: 0; right: 0; top: 36px; bottom: 0; pointer-events: none; }
.key { margin: 5px 0 0 44px; font-size: 11.5px; }
.empty { margin: auto; }
.right { display: flex; flex-direction: column; gap: 8px; padding: 8px 12px 10px; background: var(--panel); border-left: 1px solid var(--line); min-height: 0; overflow: auto; }
.tabs { display: flex; gap: 16px; border-bottom: 1px solid var(--line); flex: none; }
.tabs button { border: 0; background: none; font: inherit; font-size: 12.5px; color: var(--soft); padding: 2px 0 5px; cursor: pointer; border-bottom: 2px solid transparent; }
.tabs [aria-selected="true"] { color: var(--ink); font-weight: 600; border-bottom-color: var(--clash); }
</style>
