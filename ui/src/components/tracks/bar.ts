/** A value on a lying bar: dragged along it, nudged by keys, put back by pressing twice. */

import { useThrottleFn } from "@vueuse/core";
import { type Ref, computed, ref } from "vue";
import { useDrag } from "../../lib/drag";

export interface BarScale {
  /** Where a value stands, 0 to 1, and the value at a place. */
  readonly share: (value: number) => number;
  readonly at: (share: number) => number;
  readonly rounded: (value: number) => number;
  /** One nudge, a fine one, and a page. */
  readonly steps: readonly [number, number, number];
  /** Where it rests: what Home and a second press bring back. */
  readonly rest: number;
}

/** While it is dragged it is heard a few times a second; all of one drag is one step to undo. */
const EVERY_MS = 120;
const FINE = 0.1;

export function useBar(groove: Readonly<Ref<HTMLElement | null>>, value: () => number, scale: BarScale, change: (value: number) => void) {
  const beginDrag = useDrag();
  const moving = ref<number | null>(null);
  const shown = computed(() => moving.value ?? value());
  const left = computed(() => `${100 * scale.share(shown.value)}%`);
  const saveNow = (wanted: number) => {
    if (wanted !== value()) change(wanted);
  };
  const saveSoon = useThrottleFn(saveNow, EVERY_MS);

  function drag(event: PointerEvent): void {
    const width = groove.value?.clientWidth ?? 1;
    const start = scale.share(value());
    beginDrag(event, {
      move: (e, dx) => {
        moving.value = scale.rounded(scale.at(start + (dx / width) * (e.shiftKey ? FINE : 1)));
        void saveSoon(moving.value);
      },
      end: () => {
        if (moving.value !== null) saveNow(moving.value);
        moving.value = null;
      },
    });
  }

  function keys(event: KeyboardEvent): void {
    const [step, fine, page] = scale.steps;
    const by = event.shiftKey ? fine : step;
    const moved = { ArrowRight: by, ArrowUp: by, ArrowLeft: -by, ArrowDown: -by, PageUp: page, PageDown: -page }[event.key];
    if (event.key === "Home") saveNow(scale.rest);
    else if (moved !== undefined) saveNow(scale.rounded(value() + moved));
    else return;
    event.preventDefault();
    event.stopPropagation();
  }

  const putBack = () => saveNow(scale.rest);
  return { shown, left, drag, keys, putBack };
}
