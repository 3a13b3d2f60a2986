/** Sheets as files: put on a strip, from a menu or by dropping them on it. */

import { defineStore } from "pinia";
import type { Strip } from "../api/client";
import { tell } from "../lib/complain";
import { useChanges } from "./changes";

export const useSheets = defineStore("sheets", () => {
  const changes = useChanges();

  /** One after the other; what is left out of them is said. */
  async function putSheets(strip: Strip, files: readonly File[]): Promise<void> {
    for (const file of files) {
      const left = await changes.putSheet(strip.id, file.name, await file.text());
      if (!left) continue; // refused, which was said
      const out = left.length ? ` Left out: ${left.join("; ")}.` : "";
      tell(`${file.name} was put on ${strip.name}.${out}`);
    }
  }

  return { putSheets };
});
