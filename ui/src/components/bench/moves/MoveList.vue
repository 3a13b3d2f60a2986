<script setup lang="ts">
/** The moves of the track as a list, by how much they act, and the values of the chosen one. */
import { useQuery } from "@tanstack/vue-query";
import { ElOption, ElOptionGroup, ElSelect } from "element-plus";
import { computed, ref, watch } from "vue";
import { type Direction, type StartName, api, ask } from "../../../api/client";
import { cache } from "../../../data/cache";
import { startsQuery } from "../../../data/queries";
import { complain, tell } from "../../../lib/complain";
import { filesOf, isSheet } from "../../../lib/drop";
import { type Move, SHAPES, type Shape, bandOf, isDynamic } from "../../../lib/moves";
import { signed, writeHz } from "../../../lib/notes";
import { deepRanges, gutted, takesOf } from "../../../lib/takes";
import { useLive } from "../../../live/session";
import { useBench } from "../../../stores/bench";
import { useChanges } from "../../../stores/changes";
import { useProbe } from "../../../stores/probe";
import { useSheets } from "../../../stores/sheets";
import { useSong } from "../../../stores/song";
import { useView } from "../../../stores/view";
import NumberField from "../../NumberField.vue";
import AftercareRail from "./AftercareRail.vue";
import GatherPart from "./GatherPart.vue";
import LearnPart from "./LearnPart.vue";
import MoveEditor from "./MoveEditor.vue";
import BalancePart from "./BalancePart.vue";
import MoveRow from "./MoveRow.vue";
import RecipePart from "./RecipePart.vue";
import SetPart from "./SetPart.vue";
import TwinsPart from "./TwinsPart.vue";

const { putSheets } = useSheets();
const bench = useBench();
const song = useSong();
const changes = useChanges();
const probe = useProbe();
const live = useLive();
const view = useView();
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

/** In front of which move a carried one would come: that under the pointer; null where there is none. */
function rowAt(event: PointerEvent): number | null {
  const row = document.elementsFromPoint(event.clientX, event.clientY).find((e): e is HTMLElement => e instanceof HTMLElement && e.dataset.move !== undefined);
  return row ? Number(row.dataset.move) : null;
}
/** The move before which a carried one would be put. */
const inFrontOf = ref<number | null>(null);

const carry = (move: Move, event: PointerEvent) => {
  const to = placeAt(event);
  over.value = to === (move.place ?? "before") ? null : to;
  const row = rowAt(event);
  inFrontOf.value = over.value === null && row !== move.id ? row : null;
};

/** It comes where the page last said that it would: what comes in meanwhile may have moved other rows under the pointer. */
function put(move: Move, event: PointerEvent | null): void {
  const [to, row] = [over.value, inFrontOf.value];
  over.value = inFrontOf.value = null;
  if (event?.type !== "pointerup") return;
  if (to) void bench.saveMove(move.id, { place: to });
  else if (row !== null) void reorder(move, row);
}

/** Where a move goes down past others, it comes behind the one that it is dropped on. */
async function reorder(move: Move, onto: number): Promise<void> {
  if (!bench.track) return;
  const ids = bench.track.moves.map((m) => m.id);
  const [from, to] = [ids.indexOf(move.id), ids.indexOf(onto)];
  ids.splice(from, 1);
  ids.splice(to, 0, move.id);
  const before = await shares();
  if (!(await changes.orderMoves(bench.track.id, ids)) || !before.size) return;
  const after = await shares();
  const told = bench.moves.flatMap((m, i) => {
    const [was, is] = [before.get(m.id), after.get(m.id)];
    return was !== undefined && is !== undefined && Math.abs(was - is) >= 0.01 ? [`move ${i + 1} acts ${Math.round(100 * is)} % of the time now, ${Math.round(100 * was)} % before`] : [];
  });
  if (told.length) tell(`What reaches later moves is another: ${told.join("; ")}.`);
}

/** In what share of the passage each dynamic move of the track acts. */
async function shares(): Promise<Map<number, number>> {
  const listening = bench.moves.filter((m) => isDynamic(m) && m.enabled);
  const query = view.passage ? { from_s: view.passage.from, to_s: view.passage.to } : {};
  const found = await Promise.all(
    listening.map(async (m) => {
      const levels = await ask(api.GET("/api/songs/{song_id}/moves/{move_id}/levels", { params: { path: { song_id: song.id, move_id: m.id }, query } })).catch(() => null);
      return levels ? ([[m.id, levels.acts]] as [number, number][]) : [];
    }),
  );
  return new Map(found.flat());
}

const isShape = (name: string): name is Shape => SHAPES.some((s) => s.value === name);

async function add(name: string): Promise<void> {
  adding.value = "";
  if (isShape(name)) await bench.addShape(name);
  else if (name === "give_way") givesWay.value = true;
  else if (name === LEARN) learns.value = true;
  else if (name === "rungs") await bench.toggleRungs();
  else if (isPart(name)) part.value = name;
  else if (name === "twins") twins.value = bench.moves.map((m) => m.id);
  else if (name === "reset" && bench.track) await changes.resetStrip(bench.track.id);
  else if (name === "to_group" || name === "to_tracks") gathers.value = name;
  else await bench.addStart(name as StartName);
}

/** What is being asked for below the list: at most one thing at a time. */
const PARTS = ["set", "recipe", "balance"] as const;
type Part = (typeof PARTS)[number];
const isPart = (name: string): name is Part => (PARTS as readonly string[]).includes(name);
const part = ref<Part | null>(null);
/** Moves that wait to be put on other tracks as well. */
const twins = ref<readonly number[]>([]);
watch(() => bench.trackId, () => {
  part.value = null;
  twins.value = [];
});

/** Moves wait to go from the tracks to their group, or back. */
const gathers = ref<Direction | null>(null);
const ofTracks = computed(() => bench.track !== null && bench.track.kind !== "track");
watch(() => bench.trackId, () => (gathers.value = null));

const LEARN = "learn";
/** Learning waits for its limits. */
const learns = ref(false);

async function giveWay(to: number): Promise<void> {
  givesWay.value = false;
  await bench.addStart("give_way", to);
}

/** What the treatment takes: energy in all, and third octaves that change by a dB and more. */
const takes = computed(() => (bench.profile ? takesOf(bench.profile.grid_hz, bench.profile.untreated_db, bench.profile.treated_db) : null));
const thirds = computed(() => {
  if (!takes.value || !on.value) return "";
  const told = takes.value.thirds.filter((t) => Math.abs(t.db) >= 1).map((t) => `${writeHz(t.hz)} Hz ${signed(t.db, 1)} dB`);
  return `energy ${signed(takes.value.energy_db, 1)} dB${told.length ? `; third octaves: ${told.join(", ")}` : ""}`;
});
const warning = computed(() => {
  const c = live.curves;
  const ranges = c?.trackId === bench.trackId && c ? deepRanges(live.grid, bench.moves, c.each) : [];
  return on.value ? gutted(ranges, live.state.match_lu, writeHz) : "";
});

/** Each move heard alone, or left out, in turn: the chosen one. */
const oneByOne = ref<"on" | "off" | null>(null);
function step(way: "on" | "off"): void {
  oneByOne.value = oneByOne.value === way ? null : way;
  if (oneByOne.value && bench.chosen === null) bench.chooseNext();
}
watch([oneByOne, () => bench.chosen, () => bench.trackId], ([way, id], [had]) => {
  if (way && id !== null) live.hearOnly(way === "on" ? [id] : bench.moves.filter((m) => m.id !== id && m.enabled).map((m) => m.id));
  else if (had) live.hearOnly([]);
});
watch(() => bench.trackId, () => (oneByOne.value = null));

/** The bands that the moves that are on treat. */
const bands = computed(() => bench.moves.filter((m) => m.enabled).flatMap((m) => bandOf(m) ?? []));

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

async function dropSheets(event: DragEvent): Promise<void> {
  if (!bench.track || !event.dataTransfer?.types.includes("Files")) return;
  const found = await filesOf(event.dataTransfer);
  if (!found.some(isSheet)) complain("Only sheets (.json) can be dropped on the moves; bring recordings in on Tracks.");
  await putSheets(bench.track, found.filter(isSheet));
}

const files = computed(() => `/api/songs/${song.id}/tracks/${bench.trackId}`);
const ringsBefore = computed(() => bench.track?.rings_before_ms ?? 0);
</script>

<template>
  <section class="moves" aria-label="Moves" @dragover.prevent @drop.prevent="dropSheets">
    <header>
      <h2 class="caption">Moves</h2>
      <span class="soft" data-test="takes" :title="thirds">{{ on }} on<template v-if="Math.abs(live.state.match_lu) >= 0.05">, {{ signed(live.state.match_lu, 1) }} LU to match</template></span>
      <NumberField v-if="bench.moves.length" label="amount" unit="%" compact :model-value="amountOf(ALL)" :min="0" :max="150" :step="5" :digits="0" title="how much all moves act; drag the word, or type" @change="setAmount(ALL, $event)" />
    </header>
    <p v-if="warning" class="warning" role="status">{{ warning }}</p>
    <div v-for="name in links" :key="name" class="linked">
      <NumberField :label="name" unit="%" compact :model-value="amountOf(name)" :min="0" :max="150" :step="5" :digits="0" title="how much the moves of this name act; drag the word, or type" @change="setAmount(name, $event)" />
    </div>
    <ul v-if="bench.moves.length" class="entries">
      <MoveRow v-for="{ move, number } in before" :key="move.id" :data-move="move.id" :class="{ target: move.id === inFrontOf }" :move="move" :number="number" @carry="carry(move, $event)" @put="put(move, $event)" />
    </ul>
    <p v-else class="soft none">No moves yet. Sweep with the probe, then press C to cut where the line is.</p>
    <div class="adding">
      <ElSelect v-model="adding" class="add" size="small" placeholder="Add a move …" aria-label="Add a move" title="where the line is" popper-class="adds" @change="add">
        <ElOptionGroup label="shapes">
          <ElOption v-for="shape in SHAPES" :key="shape.value" :value="shape.value" :label="shape.label" />
          <ElOption value="rungs" label="Rungs: a row for each auditory band" />
          <ElOption value="set" label="Set of harmonics …" />
        </ElOptionGroup>
        <ElOptionGroup label="moves that listen">
          <ElOption v-for="start in starts" :key="start.name" :value="start.name" :label="start.title" :title="start.when">
            <span class="start"><span>{{ start.title }}</span><small>{{ start.when }}</small></span>
          </ElOption>
          <ElOption :value="LEARN" label="what stays while the others play">
            <span class="start"><span>what stays while the others play</span><small>A room's own rings, learned from the passage and what is played in it: linked cuts.</small></span>
          </ElOption>
        </ElOptionGroup>
        <ElOptionGroup label="whole treatments">
          <ElOption value="recipe" label="Recipe or sheet …" />
          <ElOption value="balance" label="Balance towards another sound …" />
          <ElOption v-if="bench.moves.length" value="twins" label="All moves on other tracks, too …" />
          <ElOption v-if="bench.moves.length" value="reset" label="Reset: no treatment" />
        </ElOptionGroup>
        <ElOptionGroup v-if="ofTracks" label="with its tracks">
          <ElOption value="to_group" label="moves of its tracks, here instead" />
          <ElOption value="to_tracks" label="its moves, on the tracks instead" />
        </ElOptionGroup>
      </ElSelect>
      <div v-if="bench.moves.length > 1" class="onebyone" role="group" aria-label="One by one">
        <button type="button" class="plain small" :aria-pressed="oneByOne === 'on'" title="only the chosen move is heard; N goes on to the next" @click="step('on')">each alone</button>
        <button type="button" class="plain small" :aria-pressed="oneByOne === 'off'" title="all but the chosen move are heard; N goes on to the next" @click="step('off')">each left out</button>
        <button v-if="bands.length > 1" type="button" class="plain small" :aria-pressed="probe.holds(...bands)" aria-label="Hear the bands of all moves" title="the bands of all moves that are on, together, and nothing else" @click="probe.hold(...bands)">bands</button>
      </div>
    </div>
    <GatherPart v-if="gathers" :key="gathers" :direction="gathers" @end="gathers = null" />
    <SetPart v-if="part === 'set'" @end="part = null" />
    <RecipePart v-if="part === 'recipe'" @end="part = null" />
    <BalancePart v-if="part === 'balance'" @end="part = null" />
    <TwinsPart v-if="twins.length" :move-ids="twins" @end="twins = []" />
    <LearnPart v-if="learns" @end="learns = false" />
    <ElSelect v-if="givesWay" :model-value="''" size="small" placeholder="Give way to which track?" aria-label="Give way to" @change="giveWay">
      <ElOption v-for="s in others" :key="s.id" :value="s.id" :label="s.name" />
    </ElSelect>
    <MoveEditor v-if="bench.chosenMove" :move="bench.chosenMove" @twins="twins = [$event]" />
    <div v-if="bench.moves.length" class="phase">
      <ElSelect :model-value="bench.track?.phase" size="small" aria-label="Phase" @change="setPhase">
        <ElOption v-for="p in PHASES" :key="p.value" :value="p.value" :label="p.label" />
      </ElSelect>
      <span v-if="bench.moves.some((m) => m.mode === 'static')" class="soft" title="the static moves, for other tools">
        <a :href="`${files}/impulse.wav?phase=${bench.track?.phase === 'linear' ? 'linear' : 'minimum'}`" download="impulse.wav">impulse response</a>,
        <a :href="`${files}/sections.csv`" download="sections.csv">sections</a>
      </span>
    </div>
    <p v-if="bench.moves.length && bench.track?.phase === 'linear'" class="rings soft">
      rings {{ ringsBefore.toFixed(0) }} ms before a hit<template v-if="ringsBefore > 20"> · on drums rather use minimum</template>; moves that listen keep their own phase
    </p>
    <div ref="rail" :class="{ target: over === 'behind' }">
      <AftercareRail />
    </div>
    <ul v-if="behind.length" class="entries" aria-label="Moves behind it">
      <MoveRow v-for="{ move, number } in behind" :key="move.id" :data-move="move.id" :class="{ target: move.id === inFrontOf }" :move="move" :number="number" @carry="carry(move, $event)" @put="put(move, $event)" />
    </ul>
  </section>
</template>

<style scoped>
.moves { display: flex; flex-direction: column; gap: 4px; padding: 5px 12px; overflow: auto; min-height: 0; }
header { display: flex; gap: 8px; align-items: baseline; font-size: 12px; white-space: nowrap; }
header .number { margin-left: auto; flex: none; }
header :deep(input) { width: 2.4em; min-width: 0; }
.entries { list-style: none; margin: 0; padding: 0; border-top: 1px solid var(--line); }
.linked { display: flex; justify-content: flex-end; font-size: 12px; margin-top: -4px; }
.linked :deep(input) { width: 2.4em; min-width: 0; }
.target { outline: 2px solid var(--treat); outline-offset: 3px; }
.warning { margin: 0; font-size: 11.5px; color: var(--stand-out); }
.adding { display: flex; gap: 4px; align-items: center; }
.onebyone { display: flex; gap: 3px; flex: none; }
.onebyone .small { padding: 0 5px; font-size: 11px; line-height: 20px; }
.none { margin: 4px 0; }
.soft { color: var(--soft); }
.start { display: flex; flex-direction: column; line-height: 1.2; padding: 3px 0; }
.start small { color: var(--soft); }
.rings { margin: 0; font-size: 11px; }
.phase { display: flex; gap: 8px; align-items: center; font-size: 11px; white-space: nowrap; }
.phase .el-select { width: 136px; flex: none; }
</style>
