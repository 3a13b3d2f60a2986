<script setup lang="ts">
/** What is proposed, what it does, and the ways to hear and to take it. */
import { computed } from "vue";
import { moveWords, percent } from "../../lib/clashes";
import { KEYMAP } from "../../lib/keymap";
import { keyOf } from "../../lib/keys";
import type { Move } from "../../lib/moves";
import { useClashes } from "../../stores/clashes";

const clashes = useClashes();
const kept = computed(() => clashes.proposal?.kept.find((k) => k.track_id === clashes.keeper) ?? clashes.proposal?.kept[0] ?? null);
const others = computed(() => clashes.proposal?.kept.filter((k) => k !== kept.value) ?? []);
const steps = computed(() => {
  const all = clashes.proposal?.steps ?? [];
  const most = Math.max(1e-6, ...all.map(([gained]) => gained ?? 0));
  return all.map(([gained = 0, lost = 0], i) => ({
    share: gained / most, within: i < clashes.mostMoves, words: `${i + 1} ${i ? "moves" : "move"}: +${gained.toFixed(2)} sones for ${lost.toFixed(2)}`,
  }));
});
const bar = (share: number) => ({ width: `${Math.min(100, 100 * share)}%` });
</script>

<template>
  <div class="part" aria-live="polite">
    <p v-if="clashes.searching" class="soft">Trying cuts, then measuring the best on the rendered sound …</p>
    <p v-else-if="clashes.refusal">{{ clashes.refusal }}</p>
    <template v-else-if="clashes.proposal">
      <ul class="moves">
        <li v-for="(m, i) in clashes.proposal.moves" :key="i"><strong>{{ clashes.nameOf(m.track_id) }}</strong>: {{ moveWords(m.move as Move, clashes.nameOf) }}</li>
      </ul>
      <div v-if="kept" class="bars">
        <span>{{ clashes.nameOf(kept.track_id) }} heard now</span><span class="bar"><i :style="bar(kept.before)" /></span><span class="figure">{{ percent(kept.before) }}</span>
        <span>with the carve</span><span class="bar"><i class="with" :style="bar(kept.after)" /></span><span class="figure">{{ percent(kept.after) }}</span>
      </div>
      <p class="soft">
        Gains {{ clashes.proposal.gained.toFixed(2) }} sones ({{ clashes.proposal.promised.toFixed(2) }} predicted); takes {{ clashes.proposal.lost_sones.toFixed(2) }} sones,
        {{ clashes.proposal.lost_lu.toFixed(2) }} LU from the others<template v-for="o in others" :key="o.track_id">; {{ clashes.nameOf(o.track_id) }} {{ percent(o.before) }} → {{ percent(o.after) }}</template>.
        <strong v-if="clashes.proposal.gained <= 0">Measured, they get back less than they give up.</strong>
      </p>
      <div v-if="clashes.proposal.steps.length > 1" class="steps" role="img" :aria-label="`What more moves would buy: ${steps.map((s) => s.words).join('; ')}`">
        <span>What more would buy</span>
        <span v-for="(s, i) in steps" :key="i" class="step" :class="{ within: s.within }" :title="s.words"><i :style="{ height: `${s.share * 22}px` }" />{{ i + 1 }}</span>
      </div>
      <div class="ways" role="group" aria-label="Hear the carve">
        <button type="button" class="plain small" :aria-pressed="clashes.heard === 'carve'" :title="KEYMAP['finding.without'].says" @click="clashes.hear('carve')">
          With it <kbd>{{ keyOf("finding.without") }}</kbd>
        </button>
        <button type="button" class="plain small" :aria-pressed="clashes.heard === 'removed'" :title="KEYMAP['finding.removed'].says" @click="clashes.hear('removed')">
          Removed <kbd>{{ keyOf("finding.removed") }}</kbd>
        </button>
        <button type="button" class="plain small accept" :title="KEYMAP['clash.carve'].says" @click="clashes.accept()">
          Carve <kbd>{{ keyOf("clash.carve") }}</kbd>
        </button>
      </div>
    </template>
  </div>
</template>

<style scoped>
.part { display: flex; flex-direction: column; gap: 6px; font-size: 12px; }
p { margin: 0; font-size: 11.5px; line-height: 15.5px; }
.moves { list-style: none; margin: 0; padding: 0; line-height: 16px; }
.bars { display: grid; grid-template-columns: auto 1fr 44px; gap: 3px 8px; align-items: center; font-size: 11.5px; }
.bar { height: 8px; background: var(--line); display: block; }
.bar i { display: block; height: 100%; background: var(--soft); }
.bar .with { background: var(--treat); }
.bars .figure { text-align: right; }
.steps { display: flex; gap: 5px; align-items: end; font-size: 11px; color: var(--soft); }
.steps > :first-child { margin-right: 4px; }
.step { display: flex; flex-direction: column; align-items: center; width: 16px; }
.step i { width: 100%; background: var(--line); border: 1px solid var(--soft); }
.step.within i { background: var(--treat); border-color: var(--treat); }
.ways { display: flex; gap: 3px; }
.accept { border-color: var(--treat); color: var(--treat); font-weight: 600; margin-left: auto; }
.accept kbd { opacity: 1; }
</style>
