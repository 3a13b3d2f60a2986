import { createApp, h, onMounted } from "vue";
import { afterEach, describe, expect, it, vi } from "vitest";
import { HELD_MS, type KeyAction, useKeys } from "./keys";

let stop = () => {};
afterEach(() => stop());

function listening(action: Omit<KeyAction, "group" | "says">): void {
  const app = createApp({
    setup() {
      useKeys([{ group: "Test", says: "does it", ...action }]);
      onMounted(() => {});
      return () => h("div");
    },
  });
  app.mount(document.createElement("div"));
  stop = () => app.unmount();
}

const press = (type: "keydown" | "keyup", key: string, at: number, repeat = false) => {
  const event = new KeyboardEvent(type, { key, repeat, bubbles: true });
  Object.defineProperty(event, "timeStamp", { value: at });
  window.dispatchEvent(event);
};

describe("a key that switches", () => {
  it("stays switched after a tap", () => {
    const act = vi.fn();
    listening({ keys: ["a"], act, momentary: true });
    press("keydown", "a", 0);
    press("keyup", "a", HELD_MS - 50);
    expect(act).toHaveBeenCalledTimes(1);
  });

  it("switches back when it was held, however often the keyboard repeats it", () => {
    const act = vi.fn();
    listening({ keys: ["a"], act, momentary: true });
    press("keydown", "a", 0);
    for (let t = 100; t < 900; t += 40) press("keydown", "a", t, true);
    expect(act).toHaveBeenCalledTimes(1);
    press("keyup", "a", 900);
    expect(act).toHaveBeenCalledTimes(2);
  });
});

describe("a key without a hold", () => {
  it("acts at every repeat and not when it is let go", () => {
    const act = vi.fn();
    listening({ keys: ["n"], act });
    press("keydown", "n", 0);
    press("keydown", "n", 500, true);
    press("keyup", "n", 900);
    expect(act).toHaveBeenCalledTimes(2);
  });
});
