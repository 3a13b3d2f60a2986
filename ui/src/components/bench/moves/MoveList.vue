<script setup lang="ts">
/** The moves of the track as a list, by how much they act, and the values of the chosen one. */
import { useQuery } from "@tanstack/vue-query";
import { ElOption, ElOptionGroup, ElSelect } from "element-plus";
import { computed, ref } from "vue";
import type { StartName } from "../../../api/client";
import { cache } from "../../../data/cache";
import { startsQuery } from "../../../data/queries";
import { type Move, SHAPES, type Shape } from "../../../lib/moves";
import { signed } from "../../../lib/notes";
import { useLive } from "../../../live/session";
import { useBench } from "../../../stores/bench";
import { useChanges } from "../../../stores/changes";
import { useSong } from "../../../stores/song";
import NumberField from "../../NumberField.vue";
import AftercareRail from "./AftercareRail.vue";
import LearnPart from "./LearnPart.vue";
import MoveEditor from "./MoveEditor.vue";
import MoveRow from "./MoveRow.vue";

const bench = useBench();
const song = useSong();
const changes = useChanges();
const live = useLive();
const adding = ref<string>("");
/** A start that waits for the track that it shall give way to. */
const givesWay = ref(false);
const { data: starts } = useQuery(startsQuery(), cache);

const on = computed(() => bench.moves.filter((m) => m.enabled).length);
const others = computed(() => (song.song?.strips ?? []).filter((s) => s.id !== bench.trackId && s.kind !== "mix"));

const numbered = computed(() => bench.moves.map((move, i) => ({ move, number: i + 1 })));
const before = computed(() => numbered.value.filter(({ move }) => move.place !== "behind"));
const behind = computed(() => numbered.value.filter(({ move }) => move.place === "behind"));
const rail = ref<HTMLElement | null>(null);
/** Where a square that is carried would be put. */
const over = ref<Move["place"] | null>(null);
const placeAt = (event: PointerEvent): Move["place"] => (event.clientY > (rail.value?.getBoundingClientRect().top ?? Infinity) ? "behind" : "before");

const carry = (move: Move, event: PointerEvent) => {
  const to = placeAt(event);
  over.value = to === (move.place ?? "before") ? null : to;
};

function put(move: Move, event: PointerEvent | null): void {
  over.value = null;
  const to = event && placeAt(event);
  if (to && to !== (move.place ?? "before")) void bench.saveMove(move.id, { place: to });
}

const isShape = (name: string): name is Shape => SHAPES.some((s) => s.value === name);

async function add(name: string): Promise<void> {
  adding.value = "";
  if (isShape(name)) await bench.addShape(name);
  else if (name === "give_way") givesWay.value = true;
  else if (name === LEARN) learns.value = true;
  else await bench.addStart(name as StartName);
}

const LEARN = "learn";
/** Learning waits for its limits. */
const learns = ref(false);

async function giveWay(to: number): Promise<void> {
  givesWay.value = false;
  await bench.addStart("give_way", to);
}

const ALL = "all";
const amountOf = (name: string) => 100 * (bench.track?.amounts[name] ?? 1);
/** What several moves are linked by: they share an amount. */
const links = computed(() => {
  const names = bench.moves.flatMap((m) => m.links ?? []);
  return [...new Set(names.filter((name, i) => names.indexOf(name) !== i))];
});

function setAmount(name: string, percent: number): void {
  if (!bench.track) return;
  const rest = Object.fromEntries(Object.entries(bench.track.amounts).filter(([known]) => known !== name));
  const share = Number((percent / 100).toFixed(2));
  void changes.changeTrack(bench.track.id, { amounts: share === 1 ? rest : { ...rest, [name]: share } });
}

const PHASES = [
  { value: "minimum", label: "minimum phase" }, { value: "linear", label: "linear phase" }, { value: "analogue", label: "analogue phase" },
] as const;
type Phase = (typeof PHASES)[number]["value"];
const setPhase = (phase: Phase) => bench.track && void changes.changeTrack(bench.track.id, { phase });
const files = computed(() => `/api/songs/${song.id}/tracks/${bench.trackId}`);
const ringsBefore = computed(() => bench.track?.rings_before_ms ?? 0);
</script>

<template>
  <section class="moves" aria-label="Moves">
    <header>
      <h2 class="caption">Moves</h2>
      <span class="soft">{{ on }} on<template v-if="Math.abs(live.state.match_lu) >= 0.05">, {{ signed(live.state.match_lu, 1) }} LU to match</template></span>
      <NumberField v-if="bench.moves.length" label="amount" unit="%" compact :model-value="amountOf(ALL)" :min="0" :max="150" :step="5" :digits="0" title="how much all moves act; drag the word, or type" @change="setAmount(ALL, $event)" />
    </header>
    <div v-for="name in links" :key="name" class="linked">
      <NumberField :label="name" unit="%" compact :model-value="amountOf(name)" :min="0" :max="150" :step="5" :digits="0" title="how much the moves of this name act; drag the word, or type" @change="setAmount(name, $event)" />
    </div>
    <ul v-if="bench.moves.length" class="entries">
      <MoveRow v-for="{ move, number } in before" :key="move.id" :move="move" :number="number" @carry="carry(move, $event)" @put="put(move, $event)" />
    </ul>
    <p v-else class="soft none">No moves yet. Sweep with the probe, then press C to cut where the line is.</p>
    <ElSelect v-model="adding" class="add" size="small" placeholder="Add a move at the line …" aria-label="Add a move" popper-class="adds" @change="add">
      <ElOptionGroup label="shapes">
        <ElOption v-for="shape in SHAPES" :key="shape.value" :value="shape.value" :label="shape.label" />
      </ElOptionGroup>
      <ElOptionGroup label="moves that listen">
        <ElOption v-for="start in starts" :key="start.name" :value="start.name" :label="start.title" :title="start.when">
          <span class="start"><span>{{ start.title }}</span><small>{{ start.when }}</small></span>
        </ElOption>
        <ElOption :value="LEARN" label="what stays while the others play">
          <span class="start"><span>what stays while the others play</span><small>A room's own rings, learned from the passage and the other tracks: linked cuts.</small></span>
        </ElOption>
      </ElOptionGroup>
    </ElSelect>
    <LearnPart v-if="learns" @end="learns = false" />
    <ElSelect v-if="givesWay" :model-value="''" size="small" placeholder="Give way to which track?" aria-label="Give way to" @change="giveWay">
      <ElOption v-for="s in others" :key="s.id" :value="s.id" :label="s.name" />
    </ElSelect>
    <MoveEditor v-if="bench.chosenMove" :move="bench.chosenMove" />
    <label v-if="bench.moves.length" class="phase">
      <ElSelect :model-value="bench.track?.phase" size="small" aria-label="Phase" @change="setPhase">
        <ElOption v-for="p in PHASES" :key="p.value" :value="p.value" :label="p.label" />
      </ElSelect>
      <span v-if="bench.track?.phase === 'linear'" class="soft">
        rings {{ ringsBefore.toFixed(0) }} ms before a hit<template v-if="ringsBefore > 20"> · on drums rather use minimum</template>; moves that listen keep their own phase
      </span>
    </label>
    <p v-if="bench.moves.some((m) => m.mode === 'static')" class="files soft">
      static moves as <a :href="`${files}/impulse.wav?phase=${bench.track?.phase === 'linear' ? 'linear' : 'minimum'}`" download="impulse.wav">impulse response</a>,
      <a :href="`${files}/sections.csv`" download="sections.csv">sections</a>
    </p>
    <div ref="rail" :class="{ target: over === 'behind' }">
      <AftercareRail />
    </div>
    <ul v-if="behind.length" class="entries" aria-label="Moves behind it">
      <MoveRow v-for="{ move, number } in behind" :key="move.id" :move="move" :number="number" @carry="carry(move, $event)" @put="put(move, $event)" />
    </ul>
  </section>
</template>

<style scoped>
.moves { display: flex; flex-direction: column; gap: 8px; padding: 10px 12px; overflow: auto; min-height: 0; }
header { display: flex; gap: 8px; align-items: baseline; font-size: 12px; white-space: nowrap; }
header .number { margin-left: auto; flex: none; }
header :deep(input) { width: 2.4em; min-width: 0; }
.entries { list-style: none; margin: 0; padding: 0; border-top: 1px solid var(--line); }
.linked { display: flex; justify-content: flex-end; font-size: 12px; margin-top: -4px; }
.linked :deep(input) { width: 2.4em; min-width: 0; }
.target { outline: 2px solid var(--treat); outline-offset: 3px; }
.none { margin: 4px 0; }
.soft { color: var(--soft); }
.start { display: flex; flex-direction: column; line-height: 1.2; padding: 3px 0; }
.start small { color: var(--soft); }
p.files { margin: 0; font-size: 11px; }
.phase { display: flex; flex-direction: column; gap: 3px; font-size: 11px; }
</style>
