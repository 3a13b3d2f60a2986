<script setup lang="ts">
/** What a dynamic move has beside its filter; what is seldom needed folds under "more". */
import { ElOption, ElSelect } from "element-plus";
import { computed } from "vue";
import type { Key, Move } from "../../../lib/moves";
import { useBench } from "../../../stores/bench";
import { useLevels } from "../../../stores/levels";
import { useSong } from "../../../stores/song";
import NumberField from "../../NumberField.vue";

const props = defineProps<{ move: Move; more: boolean }>();
const emit = defineEmits<{ preview: [values: Partial<Move>]; change: [values: Partial<Move>] }>();
const bench = useBench();
const song = useSong();
const levels = useLevels();

const key = computed<Key>(() => props.move.key ?? { source: "self" });
const source = computed(() => key.value.source ?? "self");
const others = computed(() => (song.song?.strips ?? []).filter((s) => s.id !== bench.trackId && s.kind !== "mix"));
const heardFrom = computed(() => (song.song?.strips ?? []).find((s) => s.id === source.value));
const ownBand = computed(() => key.value.frequency_hz == null);
const rounded = (value: number, digits = 1) => Number(value.toFixed(digits));

interface Field { name: "threshold_db" | "range_db" | "attack_ms" | "release_ms" | "ratio" | "knee_db" | "hold_ms" | "lookahead_ms"; label: string; unit?: string; min: number; max: number; step: number; ratio?: boolean; usual: number }
const FIRST: readonly Field[] = [
  { name: "threshold_db", label: "Threshold", unit: "dB", min: -120, max: 24, step: 0.5, usual: -30 },
  { name: "range_db", label: "Range", unit: "dB", min: -36, max: 36, step: 0.5, usual: 0 },
  { name: "attack_ms", label: "Attack", unit: "ms", min: 0.1, max: 1000, step: 1.1, ratio: true, usual: 10 },
  { name: "release_ms", label: "Release", unit: "ms", min: 1, max: 5000, step: 1.1, ratio: true, usual: 120 },
];
const MORE: readonly Field[] = [
  { name: "ratio", label: "Ratio to 1", min: 1.05, max: 100, step: 1.1, ratio: true, usual: 2 },
  { name: "knee_db", label: "Knee", unit: "dB", min: 0, max: 24, step: 0.5, usual: 0 },
  { name: "hold_ms", label: "Hold", unit: "ms", min: 0, max: 2000, step: 5, usual: 0 },
  { name: "lookahead_ms", label: "Look-ahead", unit: "ms", min: 0, max: 50, step: 0.5, usual: 0 },
];
const said = (field: Field, value: number): Partial<Move> => ({ [field.name]: rounded(value, field.ratio ? 2 : 1) });
const save = (values: Partial<Move>) => emit("change", values);
const listenTo = (to: string | number) => save({ key: { ...key.value, source: to as Key["source"] } });
const listenAt = (hz: number | null) => save({ key: { source: source.value, frequency_hz: hz, q: null, shape: hz === null ? null : (key.value.shape ?? "band") } });
</script>

<template>
  <NumberField
    v-for="f in FIRST" :key="f.name" :label="f.label" :unit="f.unit" :model-value="move[f.name] ?? f.usual" :min="f.min" :max="f.max" :step="f.step" :ratio="f.ratio" :digits="1"
    @preview="emit('preview', said(f, $event))" @change="save(said(f, $event))"
  />
  <label class="pick">
    <span>Key: listens to</span>
    <ElSelect :model-value="source" size="small" aria-label="Key" @change="listenTo">
      <ElOption value="self" label="itself" />
      <ElOption v-for="s in others" :key="s.id" :value="s.id" :label="s.name" />
    </ElSelect>
  </label>
  <p v-if="source !== 'self' && !heardFrom" class="whole note">The track that it listened to was deleted: it hears silence.</p>
  <p v-else-if="heardFrom?.mute" class="whole note">{{ heardFrom.name }} is muted, but the move still hears it.</p>
  <div v-if="more" id="more-of-move" class="whole more">
    <NumberField
      v-for="f in MORE" :key="f.name" :label="f.label" :unit="f.unit" :model-value="move[f.name] ?? f.usual" :min="f.min" :max="f.max" :step="f.step" :ratio="f.ratio" :digits="1"
      @preview="emit('preview', said(f, $event))" @change="save(said(f, $event))"
    />
    <label class="pick"><span>Acts</span>
      <ElSelect :model-value="move.acts ?? 'above'" size="small" aria-label="Acts" @change="(acts: 'above' | 'below') => save({ acts })">
        <ElOption value="above" label="above" /><ElOption value="below" label="below" />
      </ElSelect>
    </label>
    <label class="pick"><span>Level</span>
      <ElSelect :model-value="move.detector ?? 'rms'" size="small" aria-label="Level" @change="(detector: 'rms' | 'peak') => save({ detector })">
        <ElOption value="rms" label="RMS" /><ElOption value="peak" label="peak" />
      </ElSelect>
    </label>
    <label class="pick whole"><span>Threshold counts from</span>
      <ElSelect :model-value="move.threshold_of ?? 'full_scale'" size="small" aria-label="Threshold counts from" @change="(threshold_of: 'full_scale' | 'strip') => save({ threshold_of })">
        <ElOption value="full_scale" label="full scale" /><ElOption value="strip" label="the key's own level" />
      </ElSelect>
    </label>
    <NumberField label="Stereo link" unit="%" :model-value="100 * (move.stereo_link ?? 1)" :min="0" :max="100" :step="5" :digits="0" @change="save({ stereo_link: rounded($event / 100, 2) })" />
    <label class="pick"><span>Key band</span>
      <ElSelect :model-value="ownBand ? 'own' : (key.shape ?? 'band')" size="small" aria-label="Key band" @change="(s: string) => s === 'own' ? listenAt(null) : save({ key: { source, frequency_hz: key.frequency_hz ?? move.frequency_hz ?? 1000, q: null, shape: s as Key['shape'] } })">
        <ElOption value="own" label="its own" /><ElOption value="band" label="a band" /><ElOption value="low" label="the low part" /><ElOption value="high" label="the high part" />
      </ElSelect>
    </label>
    <NumberField v-if="!ownBand" label="Key at" unit="Hz" :model-value="key.frequency_hz ?? 1000" :min="10" :max="24000" :step="2 ** (1 / 12)" ratio :digits="0" @change="save({ key: { ...key, frequency_hz: rounded($event) } })" />
    <p v-if="levels.levels" class="whole note">Its band takes {{ levels.levels.rise_ms.toFixed(1) }} ms to rise, on top of the attack.</p>
  </div>
</template>

<style scoped>
.pick { display: flex; flex-direction: column; font-size: 11px; }
.whole { grid-column: 1 / -1; }
.note { margin: 0; font-size: 11px; }
.more { display: grid; grid-template-columns: repeat(3, minmax(0, 1fr)); gap: 6px 12px; margin-top: 3px; align-items: end; }
</style>
