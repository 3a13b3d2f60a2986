<script setup lang="ts">
/** Free one track from everything that hides it, within limits. */
import { ElOption, ElSelect } from "element-plus";
import { useClashes } from "../../stores/clashes";
import { useSong } from "../../stores/song";
import LimitFields from "./LimitFields.vue";
import ProposalPart from "./ProposalPart.vue";

const clashes = useClashes();
const song = useSong();
</script>

<template>
  <div class="free" data-test="free">
    <p class="soft">Small cuts on the other tracks, solved together, so that one track is heard. Nothing is changed before you take it.</p>
    <ElSelect v-model="clashes.freeId" size="small" aria-label="Track to be freed" placeholder="Choose a track">
      <ElOption v-for="t in song.tracks" :key="t.id" :value="t.id" :label="t.name" />
    </ElSelect>
    <ElSelect v-model="clashes.untouched" multiple collapse-tags size="small" aria-label="Tracks that are never touched" placeholder="Never touch …">
      <ElOption v-for="t in song.tracks.filter((t) => t.id !== clashes.freeId)" :key="t.id" :value="t.id" :label="t.name" />
    </ElSelect>
    <LimitFields />
    <ProposalPart />
  </div>
</template>

<style scoped>
.free { display: flex; flex-direction: column; gap: 8px; }
p { margin: 0; font-size: 12px; }
</style>
