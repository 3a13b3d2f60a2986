/** Which theme is shown; what is drawn by hand is drawn anew when it changes. */

import { useMutationObserver } from "@vueuse/core";
import { type Ref, effectScope, ref } from "vue";

let shown: Ref<string> | null = null;

export function useTheme(): Readonly<Ref<string>> {
  if (shown) return shown;
  const root = document.documentElement;
  const now = ref(root.dataset.theme ?? "");
  shown = now;
  // for the page's life, whichever component asked first
  effectScope(true).run(() => {
    useMutationObserver(root, () => (now.value = root.dataset.theme ?? ""), { attributes: true, attributeFilter: ["data-theme"] });
  });
  return now;
}
