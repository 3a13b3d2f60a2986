<script setup lang="ts">
/** The values of one move, whatever its kind. */
import { ElOption, ElSelect } from "element-plus";
import { computed, ref } from "vue";
import {
  type Move, SHAPES, bandOf, SLOPES, type Shape, hasGain, hasQ, hasSlope, isAdaptive, isDynamic, isRungs, nameOf, placeOf, qualityOf, shapeOf, togetherBy,
} from "../../../lib/moves";
import { tell } from "../../../lib/complain";
import { FEWEST, MOST, recounted } from "../../../lib/rungs";
import { joined } from "../../../lib/stretches";
import { writeNote } from "../../../lib/notes";
import { useLive } from "../../../live/session";
import { useBench } from "../../../stores/bench";
import { useChanges } from "../../../stores/changes";
import { useView } from "../../../stores/view";
import { useProbe } from "../../../stores/probe";
import NumberField from "../../NumberField.vue";
import AdaptiveFields from "./AdaptiveFields.vue";
import DynamicFields from "./DynamicFields.vue";
import MoveFields from "./MoveFields.vue";

const props = defineProps<{ move: Move }>();
const emit = defineEmits<{ twins: [id: number] }>();
const bench = useBench();
const changes = useChanges();
const live = useLive();
const probe = useProbe();
const view = useView();

const number = computed(() => bench.moves.findIndex((m) => m.id === props.move.id) + 1);
const preview = (values: Partial<Move>) => bench.previewMove(props.move.id, values);
const save = (values: Partial<Move>) => void bench.saveMove(props.move.id, values);
const rounded = (value: number, digits: number) => Number(value.toFixed(digits));
const shapes = computed(() => (isDynamic(props.move) ? SHAPES.filter((s) => hasGain(s.value) || s.value === "band_pass") : SHAPES));
const stereo = computed(() => bench.track?.channels === 2);
const careful = computed(() => {
  const care = bench.track?.aftercare;
  return !!care && (!!care.compressors?.length || !!care.clip || !!care.warmth || !!care.air);
});

function setShape(shape: Shape): void {
  const was = shapeOf(props.move);
  const wasPlain = hasSlope(was) || was.endsWith("shelf");
  const values: Partial<Move> = { shape };
  if (hasSlope(shape) || shape.endsWith("shelf")) values.q = Math.SQRT1_2;
  else if (wasPlain) values.q = 4.32;
  save(values);
}

const setSlope = (slope: (typeof SLOPES)[number]) => save({ slope_db_per_octave: slope, q: Math.SQRT1_2 });

/** The cut acts only when it is loud there: what it took becomes its range. The threshold is set from the picture. */
function listen(): void {
  const gain = props.move.gain_db ?? -3;
  save({ mode: "dynamic", gain_db: 0, range_db: gain || -3, threshold_db: -30, ratio: 3, knee_db: 6 });
}

const rest = () => save({ mode: "static", gain_db: rounded((props.move.gain_db ?? 0) + (props.move.range_db ?? 0), 1) });

const isOnly = computed(() => live.state.only.includes(props.move.id));
const hearTaken = () => {
  live.hearOnly([props.move.id]);
  live.setSignal(live.state.signal === "removed" ? "treated" : "removed");
};
/** The band that it treats, alone: the probe is held there. */
const band = computed(() => bandOf(props.move));
/** An adaptive move that listens to itself hears all that it treats. */
const hasKey = computed(() => isDynamic(props.move) || (isAdaptive(props.move) && (props.move.key?.source ?? "self") !== "self"));
const more = ref(false);
const hearsKey = computed(() => live.state.key_of === props.move.id);
const link = computed(() => togetherBy(props.move));
const setCount = (count: number) => save({ count: Math.round(count), gains_db: recounted(props.move.gains_db ?? [], Math.round(count)) });
/** Rungs become the ordinary moves that follow them best. */
async function fit(): Promise<void> {
  if (!bench.track) return;
  const says = await changes.fitRungs(bench.track.id, props.move.id);
  if (says) tell(says);
}
const clearStretches = () => save({ stretches: [] });
const mayStayHere = computed(() => view.passage !== null && !props.move.stretches?.length);
/** The passage becomes one of the stretches in which the move acts; those that it touches are joined. */
const addPassage = () => view.passage && save({ stretches: joined([...(props.move.stretches ?? []), [view.passage.from, view.passage.to]]) });
</script>

<template>
  <div class="editor panel" role="group" :aria-label="`Move ${number}`">
    <header>
      <strong>Move {{ number }}</strong><span class="soft kind">{{ nameOf(move) }}</span>
      <button v-if="move.mode === 'static' && hasGain(shapeOf(move))" type="button" class="plain small" title="act only when it is loud there" @click="listen">Only when loud</button>
      <button v-if="isDynamic(move)" type="button" class="plain small" title="act all the time, as deep as its range" @click="rest">Always</button>
      <button v-if="isRungs(move)" type="button" class="plain small" title="the ordinary moves that follow them best" @click="fit()">Turn into moves</button>
      <span class="figure soft">{{ isRungs(move) ? "" : writeNote(placeOf(move)) }}</span>
    </header>
    <div class="fields">
      <AdaptiveFields v-if="isAdaptive(move)" :move="move" @preview="preview" @change="save" />
      <NumberField v-else-if="isRungs(move)" label="Bands" :model-value="move.count ?? 0" :min="FEWEST" :max="MOST" :step="1" :digits="0" @change="setCount($event)" />
      <MoveFields v-else :move="move" @preview="preview" @change="save">
        <label v-if="hasSlope(shapeOf(move))" class="pick">
          <span>Slope in dB/oct</span>
          <ElSelect :model-value="move.slope_db_per_octave" size="small" aria-label="Slope in dB/oct" @change="setSlope">
            <ElOption v-for="slope in SLOPES" :key="slope" :value="slope" :label="slope" />
          </ElSelect>
        </label>
        <NumberField
          v-if="hasQ(move) && !isDynamic(move)" label="Q" :model-value="qualityOf(move)" :min="0.1" :max="100" :step="1.1" ratio :digits="2"
          @preview="preview({ q: rounded($event, 4) })" @change="save({ q: rounded($event, 4) })"
        />
      </MoveFields>
      <label v-if="!isAdaptive(move) && !isRungs(move)" class="pick">
        <span>Shape</span>
        <ElSelect :model-value="shapeOf(move)" size="small" aria-label="Shape" @change="setShape">
          <ElOption v-for="shape in shapes" :key="shape.value" :value="shape.value" :label="shape.label" />
        </ElSelect>
      </label>
      <DynamicFields v-if="isDynamic(move)" :move="move" :more="more" @preview="preview" @change="save" />
      <label v-if="stereo" class="pick">
        <span>Channels</span>
        <ElSelect :model-value="move.channels ?? 'all'" size="small" aria-label="Channels" @change="(channels: Move['channels']) => save({ channels })">
          <ElOption v-for="c in ['all', 'left', 'right', 'mid', 'side']" :key="c" :value="c" :label="c" />
        </ElSelect>
      </label>
      <label v-if="careful" class="pick">
        <span>Place</span>
        <ElSelect :model-value="move.place ?? 'before'" size="small" aria-label="Place" @change="(place: Move['place']) => save({ place })">
          <ElOption value="before" label="before the rest" /><ElOption value="behind" label="behind it" />
        </ElSelect>
      </label>
      <p v-if="link" class="whole">
        Moves together: {{ link.replace(/^\w+: /, "") }}. <button type="button" class="plain small" :aria-pressed="bench.apart" title="change only this one: an offset of its own" @click="bench.apart = !bench.apart">This one alone</button>
      </p>
      <p v-if="isDynamic(move) && more && mayStayHere" class="whole"><button type="button" class="plain small" title="act only in the passage" @click="addPassage">Only here</button></p>
      <p v-if="move.stretches?.length" class="whole">
        Acts at {{ move.stretches.length }} marked moments only. <button type="button" class="plain small" @click="clearStretches">Act always</button>
        <button v-if="view.passage" type="button" class="plain small" title="the passage, too" @click="addPassage">and in the passage</button>
      </p>
    </div>
    <div class="actions" role="group" aria-label="Hear">
      <span class="caption-like">hear</span>
      <button type="button" class="plain small" aria-label="Hear alone" title="hear this move alone" :aria-pressed="isOnly" @click="live.hearOnly(isOnly ? [] : [move.id])">alone</button>
      <button v-if="isDynamic(move) || isAdaptive(move)" type="button" class="plain small" aria-label="Hear what is taken" :aria-pressed="isOnly && live.state.signal === 'removed'" title="only what this move takes away" @click="hearTaken">taken</button>
      <button v-if="band" type="button" class="plain small" aria-label="Hear its band" :aria-pressed="probe.holds(band)" title="the band that it treats, alone" @click="probe.hold(band)">band</button>
      <button v-if="hasKey" type="button" class="plain small" aria-label="Hear its key" :aria-pressed="hearsKey" title="what it listens to, through the band that it reads" @click="live.hearKey(hearsKey ? null : move.id)">key</button>
      <button v-if="!isDynamic(move) && mayStayHere" type="button" class="plain small more" title="act only in the passage" @click="addPassage">Only here</button>
      <button v-if="isDynamic(move)" type="button" class="plain small more" aria-controls="more-of-move" :aria-expanded="more" title="ratio, knee, hold, look-ahead, key band" @click="more = !more">{{ more ? "less" : "more" }}</button>
    </div>
    <div class="actions">
      <button type="button" class="plain small" :aria-pressed="!move.enabled" @click="save({ enabled: !move.enabled })">Bypass</button>
      <button type="button" class="plain small" @click="bench.duplicate(move.id)">Duplicate</button>
      <button type="button" class="plain small" title="this move on other tracks as well" @click="emit('twins', move.id)">Twins …</button>
      <button type="button" class="plain small" title="as it was made" @click="changes.resetMove(move.id)">Reset</button>
      <button type="button" class="plain small" @click="bench.remove(move.id)">Delete</button>
    </div>
  </div>
</template>

<style scoped>
.editor { padding: 4px 10px 6px; border-color: var(--treat); background: var(--treat-soft); }
header { display: flex; gap: 8px; align-items: baseline; font-size: 12px; }
header > :last-child { margin-left: auto; }
.fields { display: grid; grid-template-columns: repeat(3, minmax(0, 1fr)); gap: 3px 12px; margin: 2px 0 5px; align-items: end; }
.pick { display: flex; flex-direction: column; font-size: 11px; }
.whole { grid-column: 1 / -1; margin: 0; font-size: 11.5px; }
.actions { display: flex; gap: 3px; align-items: center; margin-top: 3px; white-space: nowrap; }
.actions .small, header .small { padding: 0 5px; font-size: 11.5px; }
.actions .more { margin-left: auto; }
.caption-like { font-size: 11px; opacity: 0.85; padding-right: 2px; }
.soft { color: var(--ink); }
.editor :deep(.label), .editor :deep(.unit), .pick { color: var(--ink); opacity: 0.85; }
</style>
