<script setup lang="ts">
/** All keys that work in this view. */
import { ElDialog } from "element-plus";
import { shownKeys } from "../lib/keys";

const open = defineModel<boolean>({ required: true });
</script>

<template>
  <ElDialog v-model="open" title="Keys" width="min(1080px, 94vw)" top="4vh">
    <div class="groups" tabindex="0" role="region" aria-label="All keys">
      <section v-for="[group, lines] in shownKeys()" :key="group">
        <h2 class="caption">{{ group }}</h2>
        <dl>
          <template v-for="line in lines" :key="line.says">
            <dt class="figure">{{ line.keys.join(" or ") }}</dt>
            <dd>{{ line.says }}</dd>
          </template>
        </dl>
      </section>
      <section>
        <h2 class="caption">Numbers</h2>
        <dl>
          <dt class="figure">ArrowUp / Down</dt><dd>nudge; with Shift a tenth, PageUp and PageDown ten times</dd>
          <dt class="figure">Enter</dt><dd>take what was typed</dd>
        </dl>
      </section>
    </div>
  </ElDialog>
</template>

<style scoped>
.groups { columns: 3; column-gap: 26px; max-height: 78vh; overflow: auto; }
section { break-inside: avoid; margin-bottom: 14px; }
dl { display: grid; grid-template-columns: 112px 1fr; gap: 2px 10px; margin: 4px 0; font-size: 12px; }
dt { color: var(--treat); font-size: 11.5px; }
dd { margin: 0; }
</style>
