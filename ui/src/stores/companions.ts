/** Tracks that are heard with the one that is looked at, where that is heard alone: the bass with just the kick. */

import { defineStore } from "pinia";
import { computed, ref, watch } from "vue";
import { toggled } from "../lib/sets";
import { useLive } from "../live/session";
import { useSong } from "./song";

/** Alone, with the companions, or in the mix. */
export type Company = "alone" | "together" | "mix";

export const useCompanions = defineStore("companions", () => {
  const live = useLive();
  const song = useSong();

  const marked = ref<ReadonlySet<number>>(new Set());
  /** Those of the marked ones that are there and not looked at. */
  const others = computed(() => [...marked.value].filter((id) => id !== live.state.focus && song.stripOf(id) !== null));
  const names = computed(() => others.value.map((id) => song.stripOf(id)?.name).join(", "));
  const together = computed(() => live.state.scope === "alone" && live.state.companions.length > 0);

  function hear(company: Company): void {
    live.setCompanions(company === "together" ? others.value : []);
    live.setScope(company === "mix" ? "mix" : "alone");
  }

  let before: Company = "mix";

  /** As it was before the last step. */
  const back = () => hear(before);

  /** Alone, with companions if there are any, in the mix, and round again. */
  function next(): void {
    before = together.value ? "together" : live.state.scope;
    if (live.state.scope === "mix") hear("alone");
    else hear(!together.value && others.value.length ? "together" : "mix");
  }

  const mark = (id: number) => (marked.value = toggled(marked.value, id));

  watch(() => song.id, () => (marked.value = new Set()));
  watch(others, () => together.value && hear(others.value.length ? "together" : "alone"));

  return { marked, others, names, together, hear, next, back, mark };
});
