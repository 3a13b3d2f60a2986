/** The binary messages of a listening session (docs/live.md). */

export const SOUND = 1;
export const SPECTRUM = 2;
export const CURVES = 3;
const SOUND_HEADER = 24;

export interface Sound {
  readonly kind: typeof SOUND;
  readonly playing: boolean;
  readonly frames: number;
  readonly seq: number;
  readonly firstFrame: number;
  readonly position: number;
  /** Interleaved left and right, float32. */
  readonly samples: ArrayBuffer;
}

export interface Spectrum {
  readonly kind: typeof SPECTRUM;
  readonly untreated: Float32Array;
  readonly treated: Float32Array;
}

export interface Curves {
  readonly kind: typeof CURVES;
  readonly seq: number;
  readonly trackId: number;
  readonly total: Float32Array;
  readonly each: ReadonlyMap<number, Float32Array>;
}

const decibels = (bytes: Uint8Array) => Float32Array.from(bytes, (v) => -120 + 0.5 * v);

export function decode(data: ArrayBuffer): Sound | Spectrum | Curves | null {
  const view = new DataView(data);
  const kind = view.getUint8(0);
  const flag = view.getUint8(1);
  const count = view.getUint16(2, true);
  if (kind === SOUND) {
    return {
      kind,
      playing: flag === 1,
      frames: count,
      seq: view.getUint32(4, true),
      firstFrame: Number(view.getBigUint64(8, true)),
      position: view.getFloat64(16, true),
      samples: data.slice(SOUND_HEADER),
    };
  }
  if (kind === SPECTRUM) {
    return {
      kind,
      untreated: decibels(new Uint8Array(data, 4, count)),
      treated: decibels(new Uint8Array(data, 4 + count, count)),
    };
  }
  if (kind === CURVES) {
    const ids = new Uint32Array(data.slice(12, 12 + 4 * flag));
    const values = new Float32Array(data.slice(12 + 4 * flag));
    const each = new Map<number, Float32Array>();
    ids.forEach((id, i) => each.set(id, values.subarray((i + 1) * count, (i + 2) * count)));
    return { kind, seq: view.getUint32(4, true), trackId: view.getUint32(8, true), total: values.subarray(0, count), each };
  }
  return null;
}
