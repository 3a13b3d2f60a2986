/** Whether what we depend on is away, since when, and what waits for it. */

import { defineStore } from "pinia";
import { computed, ref } from "vue";
import { Refusal } from "../api/client";

export type Missing = "database" | "server";

/** How soon something that was refused for want of it is sent again. */
export const AGAIN_MS = 1000;

/** What is missing where this is why something was refused; null where it was refused for itself. */
export function missingIn(problem: unknown): Missing | null {
  if (!(problem instanceof Refusal)) return null;
  if (problem.status === 0) return "server";
  return problem.status === 503 ? "database" : null;
}

export const useAway = defineStore("away", () => {
  const missing = ref<Missing | null>(null);
  const since = ref<Date | null>(null);
  const waiting = ref(0);
  /** Changes up to this one were given up. */
  let givenUp = 0;
  let asked = 0;
  const awake = new Set<() => void>();

  function lost(what: Missing): void {
    since.value ??= new Date();
    missing.value = what;
  }

  function back(): void {
    missing.value = since.value = null;
    wake();
  }

  function wake(): void {
    for (const go of awake) go();
    awake.clear();
  }

  /** A while, or until it is back. */
  const rest = () =>
    new Promise<void>((resolve) => {
      const timer = setTimeout(go, AGAIN_MS);
      function go(): void {
        clearTimeout(timer);
        awake.delete(go);
        resolve();
      }
      awake.add(go);
    });

  /** Changes that wait are not sent any more; what is shown is what is saved. */
  function giveUp(): void {
    givenUp = asked;
    wake();
  }

  /** Counts as waiting from now on; what comes back does it, again and again while what it needs is away. */
  function patiently<T>(act: () => Promise<T>): () => Promise<T> {
    const number = ++asked;
    waiting.value += 1;
    return async () => {
      try {
        for (;;) {
          if (number <= givenUp) throw new Refusal("Given up: this change was not saved.", 0);
          try {
            const done = await act();
            back();
            return done;
          } catch (problem) {
            const what = missingIn(problem);
            if (!what) throw problem;
            lost(what);
            await rest();
          }
        }
      } finally {
        waiting.value -= 1;
      }
    };
  }

  const time = computed(() => since.value?.toTimeString().slice(0, 5) ?? "");

  return { missing, since, time, waiting, lost, back, giveUp, patiently };
});
