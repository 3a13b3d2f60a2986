import { effectScope } from "vue";
import { afterEach, describe, expect, it, vi } from "vitest";
import { KEYMAP } from "./keymap";
import { type Bindings, HELD_MS, shownKeys, useKeys } from "./keys";

let stop = () => {};
afterEach(() => stop());

function bind(bindings: Bindings): void {
  const scope = effectScope();
  scope.run(() => useKeys(bindings));
  stop = () => scope.stop();
}

const press = (type: "keydown" | "keyup", key: string, at: number, repeat = false) => {
  const event = new KeyboardEvent(type, { key, repeat, bubbles: true });
  Object.defineProperty(event, "timeStamp", { value: at });
  window.dispatchEvent(event);
};

describe("the table of keys", () => {
  it("gives every key one meaning", () => {
    const keys = Object.values(KEYMAP).flatMap((line) => [...line.keys]);
    expect(keys.filter((key, i) => keys.indexOf(key) !== i)).toEqual([]);
  });
  it("writes keys as the browser names them", () => {
    for (const key of Object.values(KEYMAP).flatMap((line) => [...line.keys])) {
      expect(key).toMatch(/^(Ctrl\+)?(Shift\+)?(Space|Home|Escape|Delete|Backspace|Arrow(Up|Down|Left|Right)|[^A-Z\s])$/);
    }
  });
  it("shows what is bound, and nothing that is still to come", () => {
    bind({ "move.next": () => {}, "listen.alone": () => {} });
    expect([...shownKeys().keys()]).toEqual(["Listening", "Moves"]);
    expect(shownKeys().get("Moves")?.map((l) => l.says)).toEqual([KEYMAP["move.next"].says]);
    stop();
    expect(shownKeys().size).toBe(0);
  });
});

describe("a key that switches", () => {
  it("stays switched after a tap", () => {
    const act = vi.fn();
    bind({ "listen.alone": act });
    press("keydown", "a", 0);
    press("keyup", "a", HELD_MS - 50);
    expect(act).toHaveBeenCalledTimes(1);
  });

  it("switches back when it was held, however often the keyboard repeats it", () => {
    const act = vi.fn();
    bind({ "listen.alone": act });
    press("keydown", "a", 0);
    for (let t = 100; t < 900; t += 40) press("keydown", "a", t, true);
    expect(act).toHaveBeenCalledTimes(1);
    press("keyup", "a", 900);
    expect(act).toHaveBeenCalledTimes(2);
  });
});

describe("a key that lasts", () => {
  it("ends once when it is let go, when the window loses it, and when its screen goes", () => {
    const [act, release] = [vi.fn(), vi.fn()];
    bind({ "probe.hold": { act, release } });
    press("keydown", "p", 0);
    press("keydown", "p", 50, true);
    press("keyup", "p", 100);
    expect([act.mock.calls.length, release.mock.calls.length]).toEqual([1, 1]);
    press("keydown", "p", 200);
    window.dispatchEvent(new Event("blur"));
    press("keyup", "p", 300);
    expect(release).toHaveBeenCalledTimes(2);
    press("keydown", "p", 400);
    stop();
    expect(release).toHaveBeenCalledTimes(3);
  });
});

describe("a key without a hold", () => {
  it("acts at every repeat and not when it is let go", () => {
    const act = vi.fn();
    bind({ "move.next": act });
    press("keydown", "n", 0);
    press("keydown", "n", 500, true);
    press("keyup", "n", 900);
    expect(act).toHaveBeenCalledTimes(2);
  });
});
