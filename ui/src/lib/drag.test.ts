import { effectScope } from "vue";
import { describe, expect, it, vi } from "vitest";
import { dragNow, useDrag } from "./drag";

const pointer = (type: string, x: number, y: number, id = 1) =>
  Object.assign(new MouseEvent(type, { clientX: x, clientY: y }), { pointerId: id }) as unknown as PointerEvent;

function dragging() {
  const scope = effectScope();
  const begin = scope.run(useDrag);
  if (!begin) throw new Error("the scope did not run");
  const move = vi.fn();
  const end = vi.fn();
  const pressed = document.createElement("button");
  document.body.append(pressed);
  begin(pointer("pointerdown", 10, 20), { move: (_e, dx, dy) => move(dx, dy), end });
  return { scope, begin, move, end, pressed };
}

describe("a drag", () => {
  it("tells how far the pointer went and ends once", () => {
    const { move, end } = dragging();
    window.dispatchEvent(pointer("pointermove", 15, 12));
    window.dispatchEvent(pointer("pointerup", 15, 12));
    window.dispatchEvent(pointer("pointermove", 99, 99));
    window.dispatchEvent(pointer("pointerup", 99, 99));
    expect(move.mock.calls).toEqual([[5, -8]]);
    expect(end).toHaveBeenCalledTimes(1);
  });

  it("goes on and ends when what was pressed has left the page", () => {
    const { move, end, pressed } = dragging();
    pressed.remove();
    window.dispatchEvent(pointer("pointermove", 11, 20));
    window.dispatchEvent(pointer("pointerup", 11, 20));
    expect(move).toHaveBeenCalledTimes(1);
    expect(end).toHaveBeenCalledTimes(1);
  });

  it("does not follow another finger", () => {
    const { move, end } = dragging();
    window.dispatchEvent(pointer("pointermove", 50, 50, 2));
    window.dispatchEvent(pointer("pointerup", 50, 50, 2));
    expect(move).not.toHaveBeenCalled();
    expect(end).not.toHaveBeenCalled();
    window.dispatchEvent(pointer("pointerup", 50, 50));
    expect(end).toHaveBeenCalledTimes(1);
  });

  it("has a name of its own while it lasts", () => {
    const { begin, end } = dragging();
    const first = dragNow();
    expect(first).not.toBe("");
    end.mockImplementation(() => expect(dragNow()).toBe(first)); // what it saves at its end belongs to it
    window.dispatchEvent(pointer("pointermove", 15, 12));
    window.dispatchEvent(pointer("pointerup", 15, 12));
    expect(end).toHaveBeenCalledTimes(1);
    expect(dragNow()).toBe("");
    begin(pointer("pointerdown", 1, 1), { move: () => undefined });
    expect(dragNow()).not.toBe(first);
    window.dispatchEvent(pointer("pointerup", 1, 1));
  });

  it("ends with the component that it belongs to", () => {
    const { scope, move, end } = dragging();
    scope.stop();
    expect(end).toHaveBeenCalledTimes(1);
    window.dispatchEvent(pointer("pointermove", 50, 50));
    expect(move).not.toHaveBeenCalled();
  });
});
