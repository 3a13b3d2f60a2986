/** Tell the user what went wrong. The message is a sentence meant for them. */

import { ElMessage } from "element-plus";

/** In pixels: a message that speaks of Undo must not lie on it. */
const BELOW_HEAD = 52;

/** Tell the user what came of long work, and leave time to read it. */
export const tell = (message: string): void => void ElMessage({ type: "success", message, duration: 9000, showClose: true, offset: BELOW_HEAD });

/** What was done, for a moment. */
export const note = (message: string): void => void ElMessage({ message, duration: 5000, offset: BELOW_HEAD });

export function complain(problem: unknown): void {
  const text = problem instanceof Error ? problem.message : String(problem);
  ElMessage({ message: text, type: "error", duration: 7000, showClose: true, grouping: true, offset: BELOW_HEAD });
}
