import { describe, expect, it, vi } from "vitest";
import { forgetFrame, nextFrame } from "./frames";

const frame = () => new Promise((resolve) => requestAnimationFrame(resolve));

describe("the frame loop", () => {
  it("paints what was asked for many times once, all in one frame", async () => {
    const [one, other] = [vi.fn(), vi.fn()];
    const asked = vi.spyOn(window, "requestAnimationFrame");
    nextFrame(one);
    nextFrame(other);
    nextFrame(one);
    expect(asked).toHaveBeenCalledTimes(1);
    await frame();
    expect(one).toHaveBeenCalledTimes(1);
    expect(other).toHaveBeenCalledTimes(1);
  });
  it("keeps for the next frame what a paint asks for, and forgets what has gone", async () => {
    const gone = vi.fn();
    let times = 0;
    const again = () => {
      times += 1;
      if (times < 3) nextFrame(again);
    };
    nextFrame(again);
    nextFrame(gone);
    forgetFrame(gone);
    await frame();
    expect(times).toBe(1);
    await frame();
    await frame();
    await frame();
    expect(times).toBe(3);
    expect(gone).not.toHaveBeenCalled();
  });
});
