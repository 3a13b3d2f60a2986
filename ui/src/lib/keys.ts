/** What keys do: the table names them, views bind what they can do. */

import { useEventListener, tryOnScopeDispose } from "@vueuse/core";
import { shallowReactive } from "vue";
import { type Group, KEYMAP, type KeyLine, type KeyName } from "./keymap";

export interface KeyAction {
  readonly act: (event: KeyboardEvent) => void;
  /** For actions that last while the key is held. */
  readonly release?: () => void;
}

export type Bindings = Partial<Record<KeyName, KeyAction | KeyAction["act"]>>;

export const HELD_MS = 300;

const bound = shallowReactive(new Set<Bindings>());

/** The lines of the table that do something now, by group. */
export function shownKeys(): Map<Group, KeyLine[]> {
  const now = new Set([...bound].flatMap((bindings) => Object.keys(bindings)));
  const groups = new Map<Group, KeyLine[]>();
  for (const [name, line] of Object.entries(KEYMAP)) {
    if (now.has(name)) groups.set(line.group, [...(groups.get(line.group) ?? []), line]);
  }
  return groups;
}

/** How a key is written on a button. */
export const keyOf = (name: KeyName): string => {
  const key = KEYMAP[name].keys[0] ?? "";
  return key.length === 1 ? key.toUpperCase() : key;
};

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

/** Bind keys for as long as the scope lives. */
export function useKeys(bindings: Bindings): void {
  const byKey = new Map<string, { line: KeyLine; action: KeyAction }>();
  for (const [name, given] of Object.entries(bindings)) {
    const line: KeyLine = KEYMAP[name as KeyName];
    for (const key of line.keys) byKey.set(key, { line, action: typeof given === "function" ? { act: given } : given });
  }
  const held = new Map<string, { line: KeyLine; action: KeyAction; since: number }>();

  useEventListener(window, "keydown", (event: KeyboardEvent) => {
    if (busy(event)) return;
    const found = byKey.get(nameOf(event));
    if (!found) return;
    event.preventDefault();
    const lasts = found.action.release !== undefined || found.line.momentary;
    if (event.repeat && lasts) return;
    if (lasts) held.set(event.key.toLowerCase(), { ...found, since: event.timeStamp });
    found.action.act(event);
  });
  useEventListener(window, "keyup", (event: KeyboardEvent) => {
    const key = event.key.toLowerCase();
    const found = held.get(key);
    held.delete(key);
    found?.action.release?.();
    if (found?.line.momentary && event.timeStamp - found.since > HELD_MS) found.action.act(event);
  });
  const lost = () => {
    held.forEach(({ action }) => action.release?.());
    held.clear();
  };
  useEventListener(window, "blur", lost);
  bound.add(bindings);
  tryOnScopeDispose(() => {
    lost();
    bound.delete(bindings);
  });
}
