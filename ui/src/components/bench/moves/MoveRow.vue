<script setup lang="ts">
/** A move as a line of the list: its square switches it, and is dragged before or behind what comes behind. */
import { type Move, gainWords, hasOctaves, hasSlope, isAdaptive, isRungs, nameOf, octavesOfQ, placeOf, qualityOf, shapeOf, togetherBy } from "../../../lib/moves";
import { useDrag } from "../../../lib/drag";
import { useBench } from "../../../stores/bench";
import { useView } from "../../../stores/view";

const props = defineProps<{ move: Move; number: number }>();
const emit = defineEmits<{ carry: [event: PointerEvent]; put: [event: PointerEvent | null] }>();
const bench = useBench();
const view = useView();
const beginDrag = useDrag();

function width(move: Move): string {
  if (isAdaptive(move)) return `${Math.round(100 * (move.share ?? 0.5))} %`;
  if (isRungs(move)) return `${move.count} bands`;
  if (hasSlope(shapeOf(move))) return `${move.slope_db_per_octave} dB/oct`;
  return hasOctaves(shapeOf(move)) ? `${octavesOfQ(qualityOf(move)).toFixed(2)} oct` : `Q ${qualityOf(move).toFixed(2)}`;
}

const CARRIED_PX = 5;
let carried = false;

function press(event: PointerEvent): void {
  carried = false;
  beginDrag(event, {
    move: (e, _dx, dy) => {
      carried ||= Math.abs(dy) > CARRIED_PX;
      if (carried) emit("carry", e);
    },
    end: (e) => {
      if (carried) emit("put", e);
    },
  });
}

/** A press that carried the square elsewhere does not switch the move as well. */
const toggle = () => !carried && void bench.saveMove(props.move.id, { enabled: !props.move.enabled });
</script>

<template>
  <li :class="{ chosen: move.id === bench.chosen, off: !move.enabled }">
    <button type="button" class="square figure" :aria-pressed="move.enabled" :aria-label="`Move ${number} on`" :title="`switch ${move.enabled ? 'off' : 'on'}; drag it to another place in the list, or across “behind”`" @pointerdown="press" @click="toggle">
      {{ number }}
    </button>
    <button type="button" class="row" :aria-current="move.id === bench.chosen" @click="bench.chosen = move.id">
      <span class="shape">{{ nameOf(move) }}<span v-if="togetherBy(move)" class="soft" :title="`moves together: ${togetherBy(move)}`"> ≡</span><span v-if="move.stretches?.length" class="soft" :title="`only at ${move.stretches.length} moments`"> ×{{ move.stretches.length }}</span></span>
      <span class="figure">{{ isRungs(move) ? "" : view.place(placeOf(move)) }}</span>
      <span class="figure soft">{{ width(move) }}</span>
      <span class="figure gain">{{ gainWords(move) }}</span>
    </button>
  </li>
</template>

<style scoped>
li { display: flex; align-items: center; border-bottom: 1px solid var(--line); padding: 0 4px; }
li.chosen { background: var(--treat-soft); }
li.off .row { color: var(--soft); text-decoration: line-through; }
.square {
  width: 19px; height: 16px; padding: 0; font-size: 10.5px; line-height: 1; font-weight: 600; color: var(--treat); background: var(--panel);
  border: 1.5px solid var(--treat); border-radius: 2px; cursor: pointer; flex: none; touch-action: none;
}
li.off .square { border-style: dashed; }
.row {
  flex: 1; display: grid; grid-template-columns: 72px 54px 54px 1fr; column-gap: 5px; white-space: nowrap; align-items: baseline; text-align: right; border: 0;
  background: none; color: inherit; font: inherit; font-size: 12px; line-height: 15px; padding: 3px 0 3px 8px; cursor: pointer;
}
.row .figure { font-size: 11.5px; }
.shape { text-align: left; }
.gain { color: var(--treat); }
.soft { color: var(--soft); }
</style>
