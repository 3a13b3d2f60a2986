/** The keys: one list that both acts and is shown. */

import { onBeforeUnmount, onMounted, shallowReactive } from "vue";

export interface KeyAction {
  /** As KeyboardEvent.key, with "Ctrl+" or "Shift+" before it where they are held. */
  readonly keys: readonly string[];
  readonly says: string;
  readonly group: string;
  readonly act: (event: KeyboardEvent) => void;
  /** For actions that last while the key is held. */
  readonly release?: () => void;
  /** A tap switches; held for longer than HELD_MS it switches back when it is let go. */
  readonly momentary?: boolean;
}

export const HELD_MS = 300;

const registered = shallowReactive(new Set<readonly KeyAction[]>());

export const allActions = (): KeyAction[] => [...registered].flat();

export function nameOf(event: KeyboardEvent): string {
  const key = event.key === " " ? "Space" : event.key.length === 1 ? event.key.toLowerCase() : event.key;
  const control = event.ctrlKey || event.metaKey ? "Ctrl+" : "";
  // shifted signs ("?", "+") are keys of their own
  const shift = event.shiftKey && (event.key.length > 1 || /[a-z]/i.test(event.key)) ? "Shift+" : "";
  return control + shift + key;
}

function typing(target: EventTarget | null): boolean {
  return (
    target instanceof HTMLElement &&
    (target.isContentEditable || target.tagName === "TEXTAREA" || target.tagName === "SELECT" ||
      (target instanceof HTMLInputElement && !["checkbox", "radio", "button"].includes(target.type)))
  );
}

function busy(event: KeyboardEvent): boolean {
  const target = event.target;
  if (typing(target)) return true;
  if (document.querySelector(".el-overlay:not([style*='display: none'])")) return true;
  // a focused control keeps the keys with which it is worked
  if (target instanceof HTMLElement && target.closest("button, a, [role=menuitem], [role=option], input")) {
    return event.key === " " || event.key === "Enter";
  }
  return target instanceof HTMLElement && target.closest("[role=listbox], [role=slider]") !== null && event.key.startsWith("Arrow");
}

/** Register actions for as long as the component lives. */
export function useKeys(actions: readonly KeyAction[]): void {
  const held = new Map<string, KeyAction>();
  const since = new Map<string, number>();
  const down = (event: KeyboardEvent) => {
    if (busy(event)) return;
    const name = nameOf(event);
    const action = actions.find((a) => a.keys.includes(name));
    if (!action) return;
    event.preventDefault();
    if (event.repeat && (action.release || action.momentary)) return;
    if (action.release || action.momentary) held.set(event.key.toLowerCase(), action);
    since.set(event.key.toLowerCase(), event.timeStamp);
    action.act(event);
  };
  const up = (event: KeyboardEvent) => {
    const key = event.key.toLowerCase();
    const action = held.get(key);
    held.delete(key);
    action?.release?.();
    if (action?.momentary && event.timeStamp - (since.get(key) ?? event.timeStamp) > HELD_MS) action.act(event);
  };
  const lost = () => {
    held.forEach((action) => action.release?.());
    held.clear();
  };
  onMounted(() => {
    registered.add(actions);
    window.addEventListener("keydown", down);
    window.addEventListener("keyup", up);
    window.addEventListener("blur", lost);
  });
  onBeforeUnmount(() => {
    lost();
    registered.delete(actions);
    window.removeEventListener("keydown", down);
    window.removeEventListener("keyup", up);
    window.removeEventListener("blur", lost);
  });
}
