<script setup lang="ts">
/** The moves of the track as a list, and the values of the chosen one. */
import { ElOption, ElSelect } from "element-plus";
import { computed, ref } from "vue";
import {
  type Move, SHAPES, SLOPES, type Shape, hasGain, hasOctaves, hasQ, hasSlope, octavesOfQ, shapeLabel,
} from "../../../lib/moves";
import { signed, writeHz, writeNote } from "../../../lib/notes";
import { useLive } from "../../../live/session";
import { useBench } from "../../../stores/bench";
import NumberField from "../../NumberField.vue";
import MoveFields from "./MoveFields.vue";

const bench = useBench();
const live = useLive();
const adding = ref<Shape | "">("");

const on = computed(() => bench.moves.filter((m) => m.enabled).length);
const number = computed(() => bench.moves.findIndex((m) => m.id === bench.chosen) + 1);

function width(move: Move): string {
  if (hasSlope(move.shape)) return `${move.slope_db_per_octave} dB/oct`;
  return hasOctaves(move.shape) ? `${octavesOfQ(move.q).toFixed(2)} oct` : `Q ${move.q.toFixed(2)}`;
}

const preview = (values: Partial<Move>) => bench.chosen !== null && bench.previewMove(bench.chosen, values);
const save = (values: Partial<Move>) => bench.chosen !== null && void bench.saveMove(bench.chosen, values);
const rounded = (value: number, digits: number) => Number(value.toFixed(digits));

function setShape(shape: Shape): void {
  const cut = hasSlope(shape);
  const wasPlain = bench.chosenMove && (hasSlope(bench.chosenMove.shape) || bench.chosenMove.shape.endsWith("shelf"));
  const values: Partial<Move> = { shape };
  if (cut || shape.endsWith("shelf")) values.q = Math.SQRT1_2;
  else if (wasPlain) values.q = 4.32;
  save(values);
}

const setSlope = (slope: (typeof SLOPES)[number]) => save({ slope_db_per_octave: slope, q: Math.SQRT1_2 });

const isOnly = (id: number) => live.state.only.includes(id);

function hearOnly(id: number): void {
  live.hearOnly(isOnly(id) ? [] : [id]);
}

async function add(shape: Shape): Promise<void> {
  adding.value = "";
  await bench.addShape(shape);
}
</script>

<template>
  <section class="moves" aria-label="Moves">
    <header>
      <h2 class="caption">Moves</h2>
      <span class="soft">{{ on }} on<template v-if="Math.abs(live.state.match_lu) >= 0.05"> · takes {{ signed(live.state.match_lu, 1) }} LU to match</template></span>
    </header>
    <ul v-if="bench.moves.length">
      <li v-for="(move, i) in bench.moves" :key="move.id" :class="{ chosen: move.id === bench.chosen, off: !move.enabled }">
        <button type="button" class="square figure" :aria-pressed="move.enabled" :aria-label="`Move ${i + 1} on`" :title="move.enabled ? 'switch off' : 'switch on'" @click="bench.saveMove(move.id, { enabled: !move.enabled })">
          {{ i + 1 }}
        </button>
        <button type="button" class="row" :aria-current="move.id === bench.chosen" @click="bench.chosen = move.id">
          <span class="shape">{{ shapeLabel(move.shape) }}</span>
          <span class="figure">{{ writeHz(move.frequency_hz) }} Hz</span>
          <span class="figure soft">{{ width(move) }}</span>
          <span class="figure gain">{{ hasGain(move.shape) ? `${signed(move.gain_db, 1)} dB` : "" }}</span>
        </button>
      </li>
    </ul>
    <p v-else class="soft none">No moves yet. Sweep with the probe, then press C to cut where the line is.</p>
    <ElSelect v-model="adding" class="add" size="small" placeholder="Add a move at the line …" aria-label="Add a move" @change="add">
      <ElOption v-for="shape in SHAPES" :key="shape.value" :value="shape.value" :label="shape.label" />
    </ElSelect>

    <div v-if="bench.chosenMove" class="editor panel" role="group" :aria-label="`Move ${number}`">
      <header>
        <strong>Move {{ number }}</strong>
        <span class="figure soft">{{ writeNote(bench.chosenMove.frequency_hz) }}</span>
      </header>
      <div class="fields">
        <MoveFields :move="bench.chosenMove" @preview="preview" @change="save">
          <label v-if="hasSlope(bench.chosenMove.shape)" class="slope">
            <span>Slope in dB/oct</span>
            <ElSelect :model-value="bench.chosenMove.slope_db_per_octave" size="small" aria-label="Slope in dB/oct" @change="setSlope">
              <ElOption v-for="slope in SLOPES" :key="slope" :value="slope" :label="slope" />
            </ElSelect>
          </label>
          <NumberField
            v-if="hasQ(bench.chosenMove)" label="Q" :model-value="bench.chosenMove.q" :min="0.1" :max="100" :step="1.1" ratio :digits="2"
            @preview="preview({ q: rounded($event, 4) })" @change="save({ q: rounded($event, 4) })"
          />
        </MoveFields>
        <label class="slope">
          <span>Shape</span>
          <ElSelect :model-value="bench.chosenMove.shape" size="small" aria-label="Shape" @change="setShape">
            <ElOption v-for="shape in SHAPES" :key="shape.value" :value="shape.value" :label="shape.label" />
          </ElSelect>
        </label>
      </div>
      <div class="actions">
        <button type="button" class="plain small" :aria-pressed="isOnly(bench.chosenMove.id)" @click="hearOnly(bench.chosenMove.id)">Hear alone</button>
        <button type="button" class="plain small" :aria-pressed="!bench.chosenMove.enabled" @click="save({ enabled: !bench.chosenMove.enabled })">Bypass</button>
        <button type="button" class="plain small" @click="bench.duplicate(bench.chosenMove.id)">Duplicate</button>
        <button type="button" class="plain small" @click="bench.remove(bench.chosenMove.id)">Delete</button>
      </div>
    </div>
  </section>
</template>

<style scoped>
.moves { display: flex; flex-direction: column; gap: 8px; padding: 10px 12px; overflow: auto; min-height: 0; }
header { display: flex; justify-content: space-between; align-items: baseline; font-size: 12px; }
ul { list-style: none; margin: 0; padding: 0; border-top: 1px solid var(--line); }
li { display: flex; align-items: center; border-bottom: 1px solid var(--line); padding: 0 4px; }
li.chosen { background: var(--treat-soft); }
li.off .row { color: var(--soft); text-decoration: line-through; }
.square {
  width: 20px; height: 18px; padding: 0; font-size: 11px; font-weight: 600; color: var(--treat); background: var(--panel);
  border: 1.5px solid var(--treat); border-radius: 2px; cursor: pointer; flex: none;
}
li.off .square { border-style: dashed; }
.row {
  flex: 1; display: grid; grid-template-columns: 58px 60px 56px 1fr; column-gap: 8px; white-space: nowrap; align-items: baseline; text-align: right; border: 0;
  background: none; color: inherit; font: inherit; font-size: 12px; padding: 6px 0 6px 8px; cursor: pointer;
}
.row .figure { font-size: 11.5px; }
.shape { text-align: left; }
.gain { color: var(--treat); }
.none { margin: 4px 0; }
.editor { padding: 9px 11px; border-color: var(--treat); background: var(--treat-soft); }
.fields { display: grid; grid-template-columns: 1fr 1fr; gap: 7px 16px; margin: 7px 0 10px; }
.slope { display: flex; flex-direction: column; font-size: 11px; color: var(--soft); }
.actions { display: flex; gap: 5px; flex-wrap: wrap; }
.soft { color: var(--soft); }
.editor .soft { color: var(--ink); }
.editor :deep(.label), .editor :deep(.unit), .editor .slope { color: var(--ink); opacity: 0.85; }
</style>
