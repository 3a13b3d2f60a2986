<script setup lang="ts">
/** A track, a group or the mix: name, role, solo and mute, fader with its level, pan, waveform, what is open, what can be done. */
import { computed, ref } from "vue";
import type { Strip } from "../../api/client";
import { lookState } from "../../lib/findings";
import { writeTime } from "../../lib/notes";
import type { Row } from "../../lib/tree";
import { useLive } from "../../live/session";
import { useChanges } from "../../stores/changes";
import { useSong } from "../../stores/song";
import { useTasks } from "../../stores/tasks";
import WaveLane from "../WaveLane.vue";
import FaderBar from "./FaderBar.vue";
import PanBar from "./PanBar.vue";
import RolePicker from "./RolePicker.vue";

const props = defineProps<{ row: Row<Strip>; compact: boolean }>();
defineEmits<{ lift: [lifted: boolean]; shift: [by: 1 | -1]; remove: []; bench: [] }>();

const song = useSong();
const changes = useChanges();
const tasks = useTasks();
const live = useLive();

const track = computed(() => props.row.strip);
const kind = computed(() => track.value.kind);
/** What is being typed as a name: it must outlast news of the song that arrive meanwhile. */
const draft = ref<string | null>(null);

function rename(event: Event): void {
  const input = event.target as HTMLInputElement;
  const name = input.value.trim();
  draft.value = null;
  if (name && name !== track.value.name) void change({ name });
  else input.value = track.value.name;
}

const change = (values: Parameters<typeof changes.changeTrack>[1]) => changes.changeTrack(track.value.id, values);
const looking = computed(() => lookState(tasks.lookingAt(track.value.name)));
const notice = computed(() => song.trackOf(track.value.id)?.notice);
const facts = computed(() => {
  if (kind.value !== "track") return props.row.holds === 1 ? "1 track" : `${props.row.holds} tracks`;
  const begins = song.trackOf(track.value.id)?.starts_at_s ?? 0;
  const lasts = track.value.frames / (song.song?.sample_rate ?? 48000) - begins;
  return `${track.value.channels === 1 ? "mono" : "stereo"} ${lasts.toFixed(1)} s${begins ? ` from ${writeTime(begins)}` : ""}`;
});
const deeper = computed(() => `${props.row.depth * 22}px`);
</script>

<template>
  <div class="lane-row" :class="[kind, { compact }]" role="listitem" :aria-label="track.name" :style="{ '--deeper': deeper }">
    <div v-if="kind !== 'mix'" class="grip" draggable="true" title="drag into a group, or to another place" aria-hidden="true" @dragstart="$emit('lift', true)" @dragend="$emit('lift', false)">⋮⋮</div>
    <div v-else />
    <div class="who">
      <button
        v-if="kind === 'group'" type="button" class="fold" :aria-expanded="!row.folded" :aria-label="`Tracks of ${track.name}`"
        :title="row.folded ? 'show its tracks' : 'fold it'" @click="song.fold(track.id, !row.folded)"
      >
        <svg viewBox="0 0 10 10" aria-hidden="true"><path :d="row.folded ? 'M3 1 L8 5 L3 9 Z' : 'M1 3 L9 3 L5 8 Z'" /></svg>
      </button>
      <div class="words">
        <b v-if="kind === 'mix'" class="name" :title="`everything, ${facts}`">{{ track.name }}</b>
        <input v-else class="name" :value="draft ?? track.name" :aria-label="`Name of ${track.name}`" :title="`${track.name}, ${facts}`" @input="draft = ($event.target as HTMLInputElement).value" @change="rename" @keydown.enter="($event.target as HTMLInputElement).blur()" />
        <div class="second">
          <RolePicker v-if="kind === 'track'" :name="track.name" :role="track.role" @change="change({ role: $event })" />
          <span class="soft figure facts">{{ facts }}</span>
        </div>
      </div>
    </div>
    <div class="buttons">
      <span v-if="kind !== 'track'" />
      <button v-else type="button" class="plain small" :aria-pressed="track.turned" :aria-label="`Turn the polarity of ${track.name}`" title="polarity turned: what pushes pulls" @click="change({ turned: !track.turned })">±</button>
      <button v-if="kind !== 'mix'" type="button" class="plain small" :aria-pressed="track.solo" :aria-label="`Solo ${track.name}`" @click="change({ solo: !track.solo })">Solo</button>
      <span v-else />
      <button type="button" class="plain small" :aria-pressed="track.mute" :aria-label="`Mute ${track.name}`" @click="change({ mute: !track.mute })">Mute</button>
    </div>
    <FaderBar :name="track.name" :db="track.fader_db" :peak="live.report.tracks[track.id] ?? -120" @change="change({ fader_db: $event })" />
    <PanBar :name="track.name" :pan="track.pan" @change="change({ pan: $event })" />
    <div class="wave"><WaveLane :track="track" /></div>
    <div class="more">
      <span class="found" data-test="found">
        <template v-if="looking">{{ looking }}</template>
        <template v-else-if="track.open_findings || track.decided_findings"><b v-if="track.open_findings">{{ track.open_findings }} open</b><template v-if="track.decided_findings">{{ track.open_findings ? " · " : "" }}{{ track.decided_findings }} decided</template></template>
        <template v-else-if="kind === 'track'">nothing stands out</template>
      </span>
      <button type="button" class="plain small bench-button" @click="$emit('bench')">Bench<span v-if="track.moves.length" class="figure"> · {{ track.moves.length }}</span></button>
      <span class="order" :class="{ none: kind === 'mix' }">
        <button type="button" class="plain small quiet" :aria-label="`Move ${track.name} up`" title="up, into a group and out of it" @click="$emit('shift', -1)">↑</button>
        <button type="button" class="plain small quiet" :aria-label="`Move ${track.name} down`" title="down, into a group and out of it" @click="$emit('shift', 1)">↓</button>
        <button type="button" class="plain small quiet" :aria-label="`Delete ${track.name}`" :title="kind === 'group' ? 'no group any more; its tracks stay' : 'out of the song'" @click="$emit('remove')">{{ compact ? "✕" : "Delete" }}</button>
      </span>
    </div>
    <p v-if="notice" class="notice" role="note">{{ notice }}</p>
  </div>
</template>

<style scoped>
.lane-row {
  display: grid; grid-template-columns: var(--lane-columns); gap: var(--lane-gap); align-items: center; min-height: 58px;
  background: var(--panel); border: 1px solid var(--line); border-bottom-width: 0; padding: 4px 10px 4px 6px;
}
.lane-row:last-of-type { border-bottom-width: 1px; }
.group { background: color-mix(in srgb, var(--line) 38%, var(--panel)); }
.mix { border-top: 2px solid var(--ink); position: sticky; bottom: 0; z-index: 1; }
.lane-row.into { box-shadow: inset 0 0 0 2px var(--treat); }
.lane-row.before { box-shadow: inset 0 3px 0 var(--treat); }
.lane-row.compact { min-height: 26px; height: 26px; padding-top: 0; padding-bottom: 0; }
.grip { cursor: grab; color: var(--soft); letter-spacing: -2px; }
.who { display: flex; gap: 5px; align-items: center; min-width: 0; padding-left: var(--deeper); }
.words { flex: 1; min-width: 0; }
.compact .words { display: flex; gap: 8px; align-items: center; }
.fold { border: 0; background: none; padding: 4px 2px; cursor: pointer; line-height: 0; }
.fold svg { width: 10px; height: 10px; fill: var(--ink); }
.name { border: 0; border-bottom: 1px solid transparent; background: none; color: var(--ink); font: 600 13.5px var(--sans); width: 100%; min-width: 0; padding: 0; text-overflow: ellipsis; }
.compact .name { font-size: 12.5px; }
.name:hover, .name:focus { border-color: var(--line); }
.second { display: flex; gap: 8px; font-size: 11px; align-items: baseline; white-space: nowrap; }
.compact.track .facts { display: none; }
.buttons { display: grid; grid-template-columns: auto 1fr 1fr; gap: 3px; }
.buttons .small { padding-left: 5px; padding-right: 5px; }
.wave { height: 50px; min-width: 0; }
.compact .wave { height: 25px; }
.more { display: grid; grid-template-columns: minmax(0, 1fr) 84px; gap: 2px 8px; align-items: center; justify-items: end; }
.compact .more { grid-template-columns: minmax(0, 1fr) 84px auto; }
.compact .small { padding-top: 0; padding-bottom: 0; line-height: 17px; }
.bench-button { width: 84px; border-color: var(--treat); color: var(--treat); }
.order { grid-column: 2; white-space: nowrap; }
.order.none { visibility: hidden; }
.compact .order { grid-column: auto; }
.found { font-size: 11px; color: var(--soft); white-space: nowrap; }
.found b { color: var(--stand-out); font-weight: 600; }
.notice { grid-column: 2 / -1; margin: 0; font-size: 12px; color: var(--stand-out); }
.compact:has(.notice) { height: auto; }
</style>
