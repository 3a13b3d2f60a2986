/** Dragging: from a press until the pointer is let go, wherever it goes and whatever becomes of what was pressed. */

import { tryOnScopeDispose, useEventListener } from "@vueuse/core";

export interface DragParts {
  /** The pointer moved; `dx` and `dy` are counted from the press, in px. */
  readonly move: (event: PointerEvent, dx: number, dy: number) => void;
  /** It was let go, or the drag was cut short; called once. */
  readonly end?: (event: PointerEvent | null) => void;
}

let under: string = "";

/** Names the drag that is under way, so that all that it changes is one step to undo; empty between drags. */
export const dragNow = (): string => under;

/** Makes a function that begins a drag. The drag belongs to the scope it was made in and ends with it. */
export function useDrag(): (event: PointerEvent, parts: DragParts) => void {
  let stop: ((event: PointerEvent | null) => void) | null = null;

  function begin(press: PointerEvent, parts: DragParts): void {
    stop?.(null);
    under = (crypto.getRandomValues(new Uint32Array(1))[0] as number).toString(36);
    const mine = (event: PointerEvent) => event.pointerId === press.pointerId;
    const move = (event: PointerEvent) => mine(event) && parts.move(event, event.clientX - press.clientX, event.clientY - press.clientY);
    const end = (event: PointerEvent | null) => {
      if (event && !mine(event)) return;
      unlisten();
      stop = null;
      parts.end?.(event);
      under = "";
    };
    // on the window: the pressed element may be gone before the pointer is let go
    const following = useEventListener(window, "pointermove", move);
    const ending = useEventListener(window, ["pointerup", "pointercancel"], end);
    const unlisten = () => {
      following();
      ending();
    };
    stop = end;
  }

  tryOnScopeDispose(() => stop?.(null));
  return begin;
}
