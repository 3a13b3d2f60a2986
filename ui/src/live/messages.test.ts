import { describe, expect, it } from "vitest";
import { CURVES, SOUND, SPECTRUM, decode } from "./messages";

describe("binary messages", () => {
  it("carry sound with its place in the song", () => {
    const data = new ArrayBuffer(24 + 16);
    const view = new DataView(data);
    view.setUint8(0, SOUND);
    view.setUint8(1, 1);
    view.setUint16(2, 2, true);
    view.setUint32(4, 77, true);
    view.setBigUint64(8, 1024n, true);
    view.setFloat64(16, 12.5, true);
    new Float32Array(data, 24).set([0.1, 0.2, 0.3, 0.4]);
    const sound = decode(data);
    expect(sound).toMatchObject({ kind: SOUND, playing: true, frames: 2, seq: 77, firstFrame: 1024, position: 12.5 });
    if (sound?.kind === SOUND) expect(new Float32Array(sound.samples)[3]).toBeCloseTo(0.4);
  });
  it("carry spectra as half decibels above -120", () => {
    const spectrum = decode(new Uint8Array([SPECTRUM, 0, 2, 0, 0, 240, 100, 255]).buffer);
    expect(spectrum).toMatchObject({ untreated: Float32Array.of(-120, 0), treated: Float32Array.of(-70, 7.5) });
  });
  it("carry the whole treatment's curve and that of each move", () => {
    const data = new ArrayBuffer(12 + 4 + 4 * 4);
    const view = new DataView(data);
    view.setUint8(0, CURVES);
    view.setUint8(1, 1);
    view.setUint16(2, 2, true);
    view.setUint32(8, 5, true);
    view.setUint32(12, 42, true);
    new Float32Array(data, 16).set([-1, -2, -3, -4]);
    const curves = decode(data);
    if (curves?.kind !== CURVES) throw new Error("not curves");
    expect(curves.trackId).toBe(5);
    expect([...curves.total]).toEqual([-1, -2]);
    expect([...(curves.each.get(42) ?? [])]).toEqual([-3, -4]);
  });
  it("of an unknown kind are passed over", () => {
    expect(decode(new Uint8Array([99, 0, 0, 0]).buffer)).toBeNull();
  });
});
