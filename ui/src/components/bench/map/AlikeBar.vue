<script setup lang="ts">
/** The moments that are like a spot: hear each, leave some out, cut the rest. */
import { computed } from "vue";
import { writeHz } from "../../../lib/notes";
import { useAlike } from "../../../stores/alike";
import { useSong } from "../../../stores/song";

const alike = useAlike();
const song = useSong();
const elsewhere = computed(() => {
  const counts = new Map<number, number>();
  for (const m of alike.moments) if (!alike.here.includes(m)) counts.set(m.track_id, (counts.get(m.track_id) ?? 0) + 1);
  return [...counts].map(([id, n]) => `${song.trackOf(id)?.name ?? "?"} ${n}`).join(", ");
});
</script>

<template>
  <div v-if="alike.spot" class="alike" role="group" aria-label="More like this" data-test="alike">
    <span v-if="alike.looking">looking for more like it …</span>
    <template v-else>
      <span>{{ alike.here.length }} like it around {{ writeHz(Math.sqrt(alike.spot.from_hz * alike.spot.to_hz)) }} Hz</span>
      <span v-for="m in alike.here" :key="m.from_s" class="moment" :class="{ left: alike.left.has(m) }">
        <button type="button" class="plain small figure" :title="`${Math.round(100 * m.strength)} % alike; hear it`" @click="alike.hear(m)">{{ m.from_s.toFixed(1) }} s</button>
        <button type="button" class="plain small" :aria-label="`Leave out ${m.from_s.toFixed(1)} s`" :aria-pressed="alike.left.has(m)" @click="alike.toggle(m)">×</button>
      </span>
      <span v-if="elsewhere" class="soft">also in {{ elsewhere }}</span>
      <button type="button" class="plain small accept" :disabled="!alike.kept.length" @click="alike.cut">Cut these {{ alike.kept.length }}</button>
      <button v-if="!elsewhere" type="button" class="plain small" @click="alike.find(alike.spot, true)">Look in all tracks</button>
      <button type="button" class="plain small" @click="alike.clear">Close</button>
    </template>
  </div>
</template>

<style scoped>
.alike {
  position: absolute; left: 4px; right: 4px; top: 4px; z-index: 5; display: flex; flex-wrap: wrap; gap: 4px 6px; align-items: center; padding: 4px 7px;
  background: var(--panel); border: 1px solid var(--stand-out); font-size: 11.5px; max-height: 45%; overflow: auto;
}
.moment { display: inline-flex; }
.moment button { padding: 0 4px; font-size: 11px; }
.moment.left .figure { text-decoration: line-through; opacity: 0.6; }
.accept { border-color: var(--treat); color: var(--treat); font-weight: 600; }
.soft { color: var(--soft); }
</style>
