/**
 * Numbers as people type them: "412", "1.8k", "G#4-12c", "1/3 oct", "Q 14", "-3 dB", "637/2". What is typed into a
 * field is read as that field's unit; a note or a Q is turned into it where that makes sense.
 */

import { octavesOfQ, qOfOctaves } from "./moves";

/** What a field holds. */
export type Holds = "hz" | "octaves" | "q" | "db" | "number";

/** How it can be written. */
export const EXAMPLES: Record<Holds, string> = {
  hz: "412, 1.8k, G#4 or G#4-12c", octaves: "0.33, 1/3 oct or Q 14", q: "4.3 or 1/3 oct", db: "-3 or -6/2", number: "50 or 100/3",
};

/** Semitones from C. */
const STEPS: Record<string, number> = { c: 0, d: 2, e: 4, f: 5, g: 7, a: 9, b: 11 };
const SHARP = /[#♯]/;
/** A note with its octave, and cents behind it if any. */
const NOTE = /^([a-g])([#♯b♭]?)(-?\d)(?:([+-]\d+(?:\.\d+)?)(?:c|ct|cents?)?)?$/;
const UNITS: Record<Holds, RegExp> = { hz: /hz$/, octaves: /oct(aves?)?$/, q: /^q=?/, db: /db$/, number: /(%|ms|s|lu|db|hz|oct|:1)$/ };

/** A number, or null where the text says none that the field could hold. */
export function readEntry(text: string, holds: Holds = "number"): number | null {
  const plain = text.trim().toLowerCase().replace(/[\s\u202f\u00a0]/g, "").replace(/[\u2212\u2013]/g, "-").replace(/,(?=\d)/g, ".");
  if (!plain || plain.length > 60) return null;
  if (holds === "hz") return note(plain) ?? calculated(plain.replace(UNITS.hz, ""));
  if (holds === "octaves") return asWidth(plain, (octaves) => octaves, octavesOfQ);
  if (holds === "q") return asWidth(plain, qOfOctaves, (q) => q, "q");
  return calculated(plain.replace(UNITS[holds], ""));
}

/** A width in octaves or as Q, whichever it is said as. */
function asWidth(text: string, ofOctaves: (octaves: number) => number, ofQ: (q: number) => number, plain: "octaves" | "q" = "octaves"): number | null {
  const isQ = UNITS.q.test(text) || (plain === "q" && !UNITS.octaves.test(text));
  const number = calculated(text.replace(UNITS.q, "").replace(UNITS.octaves, ""));
  if (number === null || number <= 0) return null;
  return isQ ? ofQ(number) : ofOctaves(number);
}

function note(text: string): number | null {
  const found = NOTE.exec(text);
  if (!found) return null;
  const [, letter = "", accidental = "", octave = "", cents = "0"] = found;
  const step = (STEPS[letter] ?? 0) + (SHARP.test(accidental) ? 1 : accidental ? -1 : 0);
  return 440 * 2 ** ((step - 9) / 12 + Number(octave) - 4 + Number(cents) / 1200);
}

/** The value of a sum, a product, or a number with k for thousand; null if it is none. */
function calculated(text: string): number | null {
  let at = 0;
  const next = () => text[at] ?? "";

  function number(): number {
    if (next() === "-" || next() === "+") return text[at++] === "-" ? -number() : number();
    if (next() === "(") {
      at += 1;
      const inside = sum();
      if (text[at++] !== ")") return NaN;
      return inside;
    }
    const found = /^(\d+\.?\d*|\.\d+)(k?)/.exec(text.slice(at));
    if (!found) return NaN;
    at += found[0].length;
    return Number(found[1]) * (found[2] ? 1000 : 1);
  }

  function product(): number {
    let value = number();
    while (next() === "*" || next() === "/" || next() === "×") value = text[at++] === "/" ? value / number() : value * number();
    return value;
  }

  function sum(): number {
    let value = product();
    while (next() === "+" || next() === "-") value = text[at++] === "-" ? value - product() : value + product();
    return value;
  }

  const value = sum();
  return at === text.length && Number.isFinite(value) ? value : null;
}
