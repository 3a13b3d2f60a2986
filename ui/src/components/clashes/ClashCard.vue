<script setup lang="ts">
/** The chosen clash: who keeps the place and why, how to hear it, and the proposed carve. */
import type { Clash } from "../../api/client";
import { percent } from "../../lib/clashes";
import { KEYMAP } from "../../lib/keymap";
import { keyOf } from "../../lib/keys";
import { writeTime } from "../../lib/notes";
import { useLive } from "../../live/session";
import { useClashes } from "../../stores/clashes";
import LimitFields from "./LimitFields.vue";
import ProposalPart from "./ProposalPart.vue";

defineProps<{ clash: Clash }>();
const clashes = useClashes();
const live = useLive();
</script>

<template>
  <div class="card panel" role="group" :aria-label="`Clash ${clashes.numberOf(clash)}`" data-test="clash">
    <header>
      <strong>Clash {{ clashes.numberOf(clash) }} · right of way</strong>
      <button type="button" class="plain small quiet" :title="KEYMAP['finding.leave'].says" @click="clashes.leave()">Leave</button>
    </header>
    <div class="three" role="group" aria-label="Right of way">
      <button type="button" class="plain small" :aria-pressed="clashes.way === 'covered'" @click="clashes.decide('covered')">{{ clashes.nameOf(clash.covered) }} keeps</button>
      <button type="button" class="plain small" :aria-pressed="clashes.way === 'by'" @click="clashes.decide('by')">{{ clashes.nameOf(clash.by) }} keeps</button>
      <button type="button" class="plain small" :aria-pressed="clashes.way === 'share'" title="both give way by half" @click="clashes.decide('share')">Share</button>
    </div>
    <p class="soft">
      <template v-if="clashes.decided">You decided so. <button type="button" class="plain small" @click="clashes.undecide()">As the order says</button></template>
      <template v-else>Proposed: {{ clashes.nameOf(clash.proposed) }}, since {{ clash.why }}. </template>Worst at {{ writeTime(clash.moments[0]?.[0] ?? 0) }};
      hidden in {{ percent(clash.share_of_time) }} of the time in which it sounds there.
    </p>
    <div class="ways" role="group" aria-label="Hear the range">
      <span>Range of</span>
      <button
        v-for="id in [clash.covered, clash.by]" :key="id" type="button" class="plain small" :aria-pressed="clashes.heard === 'range' && live.state.focus === id"
        :title="`${KEYMAP['finding.alone'].says}`" @click="clashes.hear('range', id)"
      >
        {{ clashes.nameOf(id) }} <kbd v-if="id === clashes.keeper">{{ keyOf("finding.alone") }}</kbd>
      </button>
      <button type="button" class="plain small" :aria-pressed="clashes.heard === 'both'" title="the range of both together" @click="clashes.hear('both')">Both</button>
      <button type="button" class="plain small" :aria-pressed="live.state.scope === 'mix'" :title="KEYMAP['listen.alone'].says" @click="live.setScope(live.state.scope === 'mix' ? 'alone' : 'mix')">
        {{ live.state.scope === "mix" ? "in the mix" : "alone" }} <kbd>{{ keyOf("listen.alone") }}</kbd>
      </button>
    </div>
    <LimitFields />
    <ProposalPart />
  </div>
</template>

<style scoped>
.card { border-color: var(--clash); padding: 7px 10px 9px; display: flex; flex-direction: column; gap: 7px; flex: none; }
header { display: flex; justify-content: space-between; align-items: baseline; font-size: 12.5px; color: var(--clash); }
.three, .ways { display: flex; gap: 3px; flex-wrap: wrap; align-items: center; font-size: 11.5px; }
.three .small { flex: 1 1 auto; overflow: hidden; text-overflow: ellipsis; }
p { margin: 0; font-size: 11.5px; line-height: 15.5px; }
.ways .small { font-size: 11.5px; padding: 0 5px; }
</style>
