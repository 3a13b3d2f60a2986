/** Note names (ISO 16: A4 = 440 Hz, equal temperament) and how figures are written. */

import { type Decibels, type Hz, type Seconds, midiOf } from "./axis";

const NAMES = ["C", "C♯", "D", "D♯", "E", "F", "F♯", "G", "G♯", "A", "A♯", "B"] as const;

export interface Note {
  readonly name: string;
  readonly cents: number;
}

export function noteOf(hz: Hz): Note {
  const midi = midiOf(hz);
  const nearest = Math.floor(midi + 0.5);
  const name = NAMES[((nearest % 12) + 12) % 12] as string;
  return { name: `${name}${Math.floor(nearest / 12) - 1}`, cents: Math.round((midi - nearest) * 100) };
}

const MINUS = "\u2212";
const THIN = "\u202f";

export function signed(value: number, digits: number): string {
  const text = Math.abs(value).toFixed(digits);
  if (Number(text) === 0) return text;
  return (value < 0 ? MINUS : "+") + text;
}

/** 97.3 Hz, 412 Hz, 1 842 Hz. */
export function writeHz(hz: Hz): string {
  const rounded = hz < 100 ? hz.toFixed(1) : Math.round(hz).toString();
  return rounded.replace(/(\d)(?=(\d{3})+(\.|$))/g, `$1${THIN}`);
}

export function writeNote(hz: Hz): string {
  const note = noteOf(hz);
  return `${note.name} ${signed(note.cents, 0)} ct`;
}

/** A note as it is typed, for narrow places: C♯3−26c. */
export function asNote(hz: Hz): string {
  const note = noteOf(hz);
  return note.cents ? `${note.name}${signed(note.cents, 0)}c` : note.name;
}

export function writeDb(db: Decibels): string {
  return db <= -119 ? "silent" : signed(db, 1);
}

/** 1:04.3 */
export function writeTime(s: Seconds, digits = 1): string {
  const tenths = 10 ** digits;
  const whole = Math.max(0, Math.round(s * tenths) / tenths);
  const minutes = Math.floor(whole / 60);
  const seconds = (whole - minutes * 60).toFixed(digits);
  return `${minutes}:${seconds.padStart(digits ? digits + 3 : 2, "0")}`;
}

/** A size in bytes for people. */
export function writeSize(bytes: number): string {
  if (bytes >= 1e9) return `${(bytes / 1e9).toFixed(1)} GB`;
  return bytes >= 1e6 ? `${(bytes / 1e6).toFixed(1)} MB` : `${Math.round(bytes / 1e3)} kB`;
}
