<script setup lang="ts">
/** One track of the song: name, role, solo and mute, fader with its level, pan, waveform, what is open, what can be done. */
import { computed, ref } from "vue";
import type { Track } from "../../api/client";
import { lookState } from "../../lib/findings";
import { useLive } from "../../live/session";
import { useChanges } from "../../stores/changes";
import { useSong } from "../../stores/song";
import { useTasks } from "../../stores/tasks";
import WaveLane from "../WaveLane.vue";
import FaderBar from "./FaderBar.vue";
import PanBar from "./PanBar.vue";
import RolePicker from "./RolePicker.vue";

const props = defineProps<{ track: Track; compact: boolean }>();
defineEmits<{ lift: [lifted: boolean]; shift: [by: number]; remove: []; bench: [] }>();

const song = useSong();
const changes = useChanges();
const tasks = useTasks();
const live = useLive();

/** What is being typed as a name: it must outlast news of the song that arrive meanwhile. */
const draft = ref<string | null>(null);

function rename(event: Event): void {
  const input = event.target as HTMLInputElement;
  const name = input.value.trim();
  draft.value = null;
  if (name && name !== props.track.name) void change({ name });
  else input.value = props.track.name;
}

const change = (values: Parameters<typeof changes.changeTrack>[1]) => changes.changeTrack(props.track.id, values);
const looking = computed(() => lookState(tasks.lookingAt(props.track.name)));
const facts = computed(() => `${props.track.channels === 1 ? "mono" : "stereo"} ${(props.track.frames / (song.song?.sample_rate ?? 48000)).toFixed(1)} s`);
</script>

<template>
  <div class="lane-row" :class="{ compact }" role="listitem" :aria-label="track.name">
    <div class="grip" draggable="true" title="drag to reorder" aria-hidden="true" @dragstart="$emit('lift', true)" @dragend="$emit('lift', false)">⋮⋮</div>
    <div class="who">
      <input class="name" :value="draft ?? track.name" :aria-label="`Name of ${track.name}`" :title="`${track.name}, ${facts}`" @input="draft = ($event.target as HTMLInputElement).value" @change="rename" @keydown.enter="($event.target as HTMLInputElement).blur()" />
      <div class="second">
        <RolePicker :name="track.name" :role="track.role" @change="change({ role: $event })" />
        <span class="soft figure facts">{{ facts }}</span>
      </div>
    </div>
    <div class="buttons">
      <button type="button" class="plain small" :aria-pressed="track.solo" :aria-label="`Solo ${track.name}`" @click="change({ solo: !track.solo })">Solo</button>
      <button type="button" class="plain small" :aria-pressed="track.mute" :aria-label="`Mute ${track.name}`" @click="change({ mute: !track.mute })">Mute</button>
    </div>
    <FaderBar :name="track.name" :db="track.fader_db" :peak="live.report.tracks[track.id] ?? -120" @change="change({ fader_db: $event })" />
    <PanBar :name="track.name" :pan="track.pan" @change="change({ pan: $event })" />
    <div class="wave"><WaveLane :track="track" /></div>
    <div class="more">
      <span class="found" data-test="found">
        <template v-if="looking">{{ looking }}</template>
        <template v-else-if="track.open_findings || track.decided_findings"><b v-if="track.open_findings">{{ track.open_findings }} open</b><template v-if="track.decided_findings">{{ track.open_findings ? " · " : "" }}{{ track.decided_findings }} decided</template></template>
        <template v-else>nothing stands out</template>
      </span>
      <button type="button" class="plain small bench-button" @click="$emit('bench')">Bench<span v-if="track.moves.length" class="figure"> · {{ track.moves.length }}</span></button>
      <span class="order">
        <button type="button" class="plain small quiet" :aria-label="`Move ${track.name} up`" @click="$emit('shift', -1)">↑</button>
        <button type="button" class="plain small quiet" :aria-label="`Move ${track.name} down`" @click="$emit('shift', 1)">↓</button>
        <button type="button" class="plain small quiet" :aria-label="`Delete ${track.name}`" @click="$emit('remove')">{{ compact ? "✕" : "Delete" }}</button>
      </span>
    </div>
    <p v-if="track.notice" class="notice" role="note">{{ track.notice }}</p>
  </div>
</template>

<style scoped>
.lane-row {
  display: grid; grid-template-columns: var(--lane-columns); gap: var(--lane-gap); align-items: center; min-height: 58px;
  background: var(--panel); border: 1px solid var(--line); border-bottom-width: 0; padding: 4px 10px 4px 6px;
}
.lane-row:last-of-type { border-bottom-width: 1px; }
.lane-row.compact { min-height: 26px; height: 26px; padding-top: 0; padding-bottom: 0; }
.grip { cursor: grab; color: var(--soft); letter-spacing: -2px; }
.compact .who { display: flex; gap: 8px; align-items: center; min-width: 0; }
.name { border: 0; border-bottom: 1px solid transparent; background: none; color: var(--ink); font: 600 13.5px var(--sans); width: 100%; min-width: 0; padding: 0; text-overflow: ellipsis; }
.compact .name { font-size: 12.5px; }
.name:hover, .name:focus { border-color: var(--line); }
.second { display: flex; gap: 8px; font-size: 11px; align-items: baseline; }
.compact .facts { display: none; }
.buttons { display: flex; gap: 4px; }
.wave { height: 50px; min-width: 0; }
.compact .wave { height: 25px; }
.more { display: grid; grid-template-columns: minmax(0, 1fr) 84px; gap: 2px 8px; align-items: center; justify-items: end; }
.compact .more { grid-template-columns: minmax(0, 1fr) 84px auto; }
.compact .small { padding-top: 0; padding-bottom: 0; line-height: 17px; }
.bench-button { width: 84px; border-color: var(--treat); color: var(--treat); }
.order { grid-column: 2; white-space: nowrap; }
.compact .order { grid-column: auto; }
.found { font-size: 11px; color: var(--soft); white-space: nowrap; }
.found b { color: var(--stand-out); font-weight: 600; }
.notice { grid-column: 2 / -1; margin: 0; font-size: 12px; color: var(--stand-out); }
.compact:has(.notice) { height: auto; }
</style>
