/** The one frame loop of the page: whatever is due is painted together, once a frame. */

const due = new Set<() => void>();
let asked = 0;

function run(): void {
  asked = 0;
  const now = [...due];
  due.clear(); // what a paint asks for again comes with the next frame
  for (const paint of now) paint();
}

/** Have something painted with the next frame; asked for many times, it is painted once. */
export function nextFrame(paint: () => void): void {
  due.add(paint);
  if (!asked) asked = requestAnimationFrame(run);
}

/** What was asked for is not needed any more. */
export function forgetFrame(paint: () => void): void {
  due.delete(paint);
}
