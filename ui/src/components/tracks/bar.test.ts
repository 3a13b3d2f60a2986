import { effectScope, ref } from "vue";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { faderAt, faderShare } from "../../lib/faders";
import { useBar } from "./bar";

const SCALE = { share: faderShare, at: faderAt, rounded: (db: number) => Number(Math.min(12, Math.max(-100, db)).toFixed(1)), steps: [0.5, 0.1, 6], rest: 0 } as const;
const pointer = (type: string, x: number, shiftKey = false) =>
  Object.assign(new MouseEvent(type, { clientX: x, clientY: 0, shiftKey }), { pointerId: 1 }) as unknown as PointerEvent;

beforeEach(() => vi.useFakeTimers());
afterEach(() => vi.useRealTimers());

function bar(from = 0) {
  const value = ref(from);
  const told: number[] = [];
  const groove = ref({ clientWidth: 100 } as HTMLElement);
  const made = effectScope().run(() => useBar(groove, () => value.value, SCALE, (v) => told.push((value.value = v))));
  if (!made) throw new Error("the scope did not run");
  const key = (name: string, shiftKey = false) => made.keys(new KeyboardEvent("keydown", { key: name, shiftKey }));
  return { ...made, value, told, key };
}

describe("a value on a bar", () => {
  it("is told a few times while it is dragged, and at last where it was let go", () => {
    const { drag, told, value, shown } = bar();
    drag(pointer("pointerdown", 0));
    for (let x = -1; x >= -40; x--) {
      window.dispatchEvent(pointer("pointermove", x));
      vi.advanceTimersByTime(20);
    }
    expect(told.length).toBeGreaterThan(2);
    expect(told.length).toBeLessThan(12);
    window.dispatchEvent(pointer("pointerup", -40));
    expect(value.value).toBeCloseTo(faderAt(faderShare(0) - 0.4), 1);
    expect(shown.value).toBe(value.value);
  });
  it("is dragged ten times as finely with Shift, and stays within its ends", () => {
    const fine = bar();
    fine.drag(pointer("pointerdown", 0));
    window.dispatchEvent(pointer("pointermove", -20, true));
    window.dispatchEvent(pointer("pointerup", -20));
    expect(fine.value.value).toBeCloseTo(faderAt(faderShare(0) - 0.02), 1);
    const far = bar();
    far.drag(pointer("pointerdown", 0));
    window.dispatchEvent(pointer("pointermove", 500));
    window.dispatchEvent(pointer("pointerup", 500));
    expect(far.value.value).toBe(12);
  });
  it("is nudged by keys and put back", () => {
    const { key, value, putBack, told } = bar(-3);
    key("ArrowUp");
    expect(value.value).toBe(-2.5);
    key("ArrowLeft", true);
    expect(value.value).toBe(-2.6);
    key("PageDown");
    expect(value.value).toBe(-8.6);
    key("Home");
    expect(value.value).toBe(0);
    putBack(); // it is there already: nothing to tell
    expect(told).toHaveLength(4);
  });
});
