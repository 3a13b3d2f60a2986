<script setup lang="ts">
/** What comes behind the moves: one line of words until it is opened. */
import { computed, ref } from "vue";
import type { Aftercare } from "../../../api/client";
import { signed, writeHz } from "../../../lib/notes";
import { useBench } from "../../../stores/bench";
import { useChanges } from "../../../stores/changes";
import NumberField from "../../NumberField.vue";

const bench = useBench();
const changes = useChanges();
const care = computed<Aftercare>(() => bench.track?.aftercare ?? ({} as Aftercare));

type Compressor = NonNullable<Aftercare["compressors"]>[number];
type Part = "clip" | "warmth" | "air" | "reverb";

const words = computed(() => {
  const c = care.value;
  const parts = (c.compressors ?? []).map((x) => `compressor ${(x.ratio ?? 3).toFixed(1)}:1`);
  if (c.clip) parts.push(`clip ${signed(c.clip.drive_db ?? 0, 0)} dB`);
  if (c.warmth) parts.push("warmth");
  if (c.air) parts.push("air");
  if (c.reverb) parts.push("reverb (to hear it with)");
  if (c.output_db) parts.push(`output ${signed(c.output_db, 1)} dB`);
  return parts.length ? parts.join(", ") : "nothing";
});

function save(values: Partial<Aftercare>): void {
  if (bench.track) void changes.changeTrack(bench.track.id, { aftercare: { ...care.value, ...values } });
}

const compressors = computed<Compressor[]>(() => care.value.compressors ?? []);
/** What the server is measuring for. */
const fitting = ref<"compressor" | "output" | null>(null);
async function fit(what: "compressor" | "output"): Promise<void> {
  if (!bench.track || fitting.value) return;
  fitting.value = what;
  await (what === "compressor" ? changes.addCompressor(bench.track.id) : changes.matchOutput(bench.track.id));
  fitting.value = null;
}
const setCompressor = (i: number, values: Partial<Compressor>) => save({ compressors: compressors.value.map((c, j) => (j === i ? { ...c, ...values } : c)) });
const dropCompressor = (i: number) => save({ compressors: compressors.value.filter((_, j) => j !== i) });
const toggle = (part: Part) => save({ [part]: care.value[part] ? null : {} });

interface Field { part: Part; name: string; label: string; unit: string; min: number; max: number; step: number; ratio?: boolean; percent?: boolean; usual: number }
const FIELDS: readonly Field[] = [
  { part: "clip", name: "drive_db", label: "Drive", unit: "dB", min: 0, max: 36, step: 0.5, usual: 0 },
  { part: "clip", name: "ceiling_db", label: "Ceiling", unit: "dB", min: -36, max: 0, step: 0.5, usual: 0 },
  { part: "clip", name: "hardness", label: "Hardness", unit: "%", min: 0, max: 100, step: 5, percent: true, usual: 0.5 },
  { part: "warmth", name: "below_hz", label: "Below", unit: "Hz", min: 20, max: 2000, step: 2 ** (1 / 12), ratio: true, usual: 200 },
  { part: "warmth", name: "level_db", label: "Level", unit: "dB", min: -60, max: 12, step: 1, usual: -24 },
  { part: "air", name: "above_hz", label: "Above", unit: "Hz", min: 500, max: 16_000, step: 2 ** (1 / 12), ratio: true, usual: 4000 },
  { part: "air", name: "level_db", label: "Level", unit: "dB", min: -60, max: 12, step: 1, usual: -24 },
  { part: "reverb", name: "send_db", label: "Send", unit: "dB", min: -60, max: 12, step: 1, usual: -18 },
  { part: "reverb", name: "decay_s", label: "Decay", unit: "s", min: 0.1, max: 10, step: 1.1, ratio: true, usual: 1.2 },
];
const PARTS: readonly { part: Part; label: string }[] = [
  { part: "clip", label: "Clip" }, { part: "warmth", label: "Warmth" }, { part: "air", label: "Air" }, { part: "reverb", label: "Reverb, to hear it with" },
];
const valueOf = (f: Field) => {
  const known = (care.value[f.part] as Record<string, number> | null | undefined)?.[f.name] ?? f.usual;
  return f.percent ? 100 * known : known;
};
const setValue = (f: Field, value: number) => save({ [f.part]: { ...care.value[f.part], [f.name]: Number((f.percent ? value / 100 : value).toFixed(2)) } });

interface Knobless { name: "threshold_db" | "ratio" | "attack_ms" | "release_ms" | "knee_db" | "mix" | "gain_db" | "detector_low_cut_hz"; label: string; unit: string; min: number; max: number; step: number; ratio?: boolean; percent?: boolean; usual: number }
const COMPRESSOR: readonly Knobless[] = [
  { name: "threshold_db", label: "Threshold", unit: "dB", min: -120, max: 24, step: 0.5, usual: -24 },
  { name: "ratio", label: "Ratio to 1", unit: "", min: 1.05, max: 100, step: 1.1, ratio: true, usual: 3 },
  { name: "attack_ms", label: "Attack", unit: "ms", min: 0.1, max: 1000, step: 1.1, ratio: true, usual: 20 },
  { name: "release_ms", label: "Release", unit: "ms", min: 1, max: 5000, step: 1.1, ratio: true, usual: 120 },
  { name: "knee_db", label: "Knee", unit: "dB", min: 0, max: 24, step: 0.5, usual: 6 },
  { name: "detector_low_cut_hz", label: "Hears above", unit: "Hz", min: 0, max: 1000, step: 10, usual: 90 },
  { name: "mix", label: "Mix", unit: "%", min: 0, max: 100, step: 5, percent: true, usual: 1 },
  { name: "gain_db", label: "Gain", unit: "dB", min: -30, max: 30, step: 0.5, usual: 0 },
];
const ofCompressor = (c: Compressor, f: Knobless) => (f.percent ? 100 : 1) * (c[f.name] ?? f.usual);
</script>

<template>
  <details class="rail" data-test="aftercare">
    <summary>behind: <span>{{ words }}</span></summary>
    <p v-for="back in bench.profile?.comes_back ?? []" :key="back.frequency_hz" class="back">What was cut at {{ writeHz(back.frequency_hz) }} Hz comes back by {{ back.db.toFixed(1) }} dB behind it (broken line in the profile).</p>
    <div v-for="(c, i) in compressors" :key="i" class="part" role="group" :aria-label="`Compressor ${i + 1}`">
      <header><strong>Compressor</strong><button type="button" class="plain small" @click="dropCompressor(i)">Remove</button></header>
      <div class="fields">
        <NumberField
          v-for="f in COMPRESSOR" :key="f.name" :label="f.label" :unit="f.unit" :model-value="ofCompressor(c, f)" :min="f.min" :max="f.max" :step="f.step" :ratio="f.ratio" :digits="1"
          @change="setCompressor(i, { [f.name]: Number((f.percent ? $event / 100 : $event).toFixed(2)) })"
        />
      </div>
    </div>
    <button v-if="compressors.length < 4" type="button" class="plain small" :disabled="!!fitting" title="3:1, its threshold such that it takes 3 dB of the passage" @click="fit('compressor')">
      {{ fitting === "compressor" ? "Measuring …" : "Add a compressor" }}
    </button>
    <div v-for="p in PARTS" :key="p.part" class="part" role="group" :aria-label="p.label">
      <header><strong>{{ p.label }}</strong><button type="button" class="plain small" :aria-pressed="!!care[p.part]" @click="toggle(p.part)">{{ care[p.part] ? "on" : "off" }}</button></header>
      <div v-if="care[p.part]" class="fields">
        <NumberField
          v-for="f in FIELDS.filter((x) => x.part === p.part)" :key="f.name" :label="f.label" :unit="f.unit" :model-value="valueOf(f)" :min="f.min" :max="f.max" :step="f.step" :ratio="f.ratio" :digits="1"
          @change="setValue(f, $event)"
        />
      </div>
    </div>
    <div class="fields">
      <NumberField label="Output" unit="dB" :model-value="care.output_db ?? 0" :min="-30" :max="30" :step="0.5" :digits="1" @change="save({ output_db: Number($event.toFixed(2)) })" />
      <button type="button" class="plain small match" :disabled="!!fitting" title="measure the passage once and write the gain that makes it as loud as untreated" @click="fit('output')">{{ fitting === "output" ? "Measuring …" : "Match level" }}</button>
    </div>
  </details>
</template>

<style scoped>
.rail { border-top: 1px solid var(--line); padding-top: 6px; font-size: 12px; }
summary { cursor: pointer; }
summary span { color: var(--soft); }
p.back { margin: 4px 0; color: var(--stand-out); font-size: 11.5px; }
.part { margin: 7px 0; }
.part header { display: flex; justify-content: space-between; }
.fields { display: grid; grid-template-columns: 1fr 1fr; gap: 6px 16px; margin-top: 4px; }
.match { align-self: end; justify-self: start; }
</style>
