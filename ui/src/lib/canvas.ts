/** A canvas that follows its size and the screen's density, drawn at most once a frame. */

import { useDevicePixelRatio, useElementSize } from "@vueuse/core";
import { type Ref, onBeforeUnmount, watch, watchEffect } from "vue";
import { forgetFrame, nextFrame } from "./frames";
import { useTheme } from "./theme";

export interface Picture {
  readonly width: Ref<number>;
  readonly height: Ref<number>;
  /** Ask for a new picture; many calls before the next frame make one. */
  readonly redraw: () => void;
}

export function usePicture(
  canvas: Ref<HTMLCanvasElement | null>,
  draw: (g: CanvasRenderingContext2D, width: number, height: number) => void,
): Picture {
  const { width, height } = useElementSize(canvas);
  const { pixelRatio } = useDevicePixelRatio();

  function paint(): void {
    const element = canvas.value;
    const g = element?.getContext("2d");
    if (!element || !g || width.value < 1 || height.value < 1) return;
    const w = Math.round(width.value * pixelRatio.value);
    const h = Math.round(height.value * pixelRatio.value);
    if (element.width !== w || element.height !== h) {
      element.width = w;
      element.height = h;
    }
    g.setTransform(pixelRatio.value, 0, 0, pixelRatio.value, 0, 0);
    g.clearRect(0, 0, width.value, height.value);
    draw(g, width.value, height.value);
  }

  const redraw = () => nextFrame(paint);

  watch([width, height, pixelRatio, useTheme()], redraw);
  watchEffect(() => canvas.value && redraw());
  onBeforeUnmount(() => forgetFrame(paint));
  return { width, height, redraw };
}

const known = new Map<string, string>();

/** A colour of the theme by its role. Asking the browser is slow, so each one is asked for once a theme. */
export function colour(name: string): string {
  const key = `${document.documentElement.dataset.theme ?? ""}/${name}`;
  let value = known.get(key);
  if (value === undefined) {
    value = getComputedStyle(document.documentElement).getPropertyValue(`--${name}`).trim();
    known.set(key, value);
  }
  return value;
}

export function rgb(hex: string): [number, number, number] {
  const n = parseInt(hex.replace("#", ""), 16);
  return [(n >> 16) & 255, (n >> 8) & 255, n & 255];
}
