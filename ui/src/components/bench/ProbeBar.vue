<script setup lang="ts">
/** The probe's settings: always in sight, so that one knows what is heard. */
import { useLive } from "../../live/session";
import { useFindings } from "../../stores/findings";
import NumberField from "../NumberField.vue";
import { useProbe } from "../../stores/probe";

const findings = useFindings();
const live = useLive();
const probe = useProbe();
const modes = [
  { value: "boost", label: "Boost" },
  { value: "alone", label: "Alone" },
  { value: "cut", label: "Cut" },
] as const;
</script>

<template>
  <div class="probe" :class="{ on: probe.on }" role="group" aria-label="Probe">
    <strong>Probe</strong>
    <span class="modes">
      <button
        v-for="mode in modes" :key="mode.value" type="button" class="plain small" :aria-pressed="probe.values.mode === mode.value"
        @click="probe.values.mode = mode.value"
      >
        {{ mode.label }}
      </button>
    </span>
    <NumberField
      compact label="by" unit="dB" :model-value="probe.values.gain_db" :min="0" :max="24" :step="1" :digits="0"
      @preview="probe.values.gain_db = $event" @change="probe.values.gain_db = $event"
    />
    <NumberField
      compact label="width" unit="oct" :model-value="probe.values.octaves" :min="0.05" :max="2" :step="1.15" ratio :digits="2"
      @preview="probe.values.octaves = $event" @change="probe.values.octaves = $event"
    />
    <NumberField
      compact label="louder ≤" unit="dB" :model-value="probe.values.margin_db" :min="0" :max="24" :step="1" :digits="0"
      @preview="probe.values.margin_db = $event" @change="probe.values.margin_db = $event"
    />
    <NumberField
      compact label="set of" unit="" :model-value="probe.values.count" :min="1" :max="16" :step="1" :digits="0" title="more than one: with its octaves or multiples, swept and cut (C) together"
      @preview="probe.values.count = Math.round($event)" @change="probe.values.count = Math.round($event)"
    />
    <button v-if="probe.values.count > 1" type="button" class="plain small" aria-label="Bands lie at" title="octaves or multiples" @click="probe.values.spacing = probe.values.spacing === 'octaves' ? 'multiples' : 'octaves'">
      {{ probe.values.spacing === "octaves" ? "oct" : "×n" }}
    </button>
    <button type="button" class="plain small" :aria-pressed="probe.latched" title="Keep the probe on (L)" @click="probe.toggleLatch()">
      Latch
    </button>
    <button type="button" class="plain small" :aria-pressed="findings.pull" title="What stands out pulls the probe while you sweep (G)" @click="findings.pull = !findings.pull">
      Pull
    </button>
    <span class="held figure" :class="{ idle: !probe.on }">
      {{ probe.on ? `held back ${live.report.probe_held_back_db.toFixed(1).replace("-", "\u2212")} dB` : "hold P to sweep" }}
    </span>
  </div>
</template>

<style scoped>
.probe {
  display: flex; align-items: center; gap: 7px; padding: 3px 8px; background: var(--probe-soft); border: 1px solid transparent;
  border-radius: 3px; white-space: nowrap;
}
.probe.on { border-color: var(--probe); }
strong { color: var(--probe-text); }
.modes { display: flex; gap: 2px; }
.held { font-size: 10.5px; color: var(--probe-text); flex: 1; min-width: 0; overflow: hidden; text-overflow: ellipsis; text-align: right; }
.held.idle { font-family: var(--sans); }
.probe :deep(.label), .probe :deep(.unit) { color: var(--probe-text); }
.probe :deep(.box) { border-color: var(--probe); }
.probe :deep(input) { width: 2.3em; min-width: 2.3em; }
</style>
