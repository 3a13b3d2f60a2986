/** Who this browser is: undo takes back its own last step, also tomorrow. */

const KEY = "mivlo.page";

export function pageId(): string {
  let id = localStorage.getItem(KEY);
  if (!id) {
    id = crypto.getRandomValues(new Uint32Array(3)).join("-");
    localStorage.setItem(KEY, id);
  }
  return id;
}
