/** Tell the user what went wrong. The message is a sentence meant for them. */

import { ElMessage } from "element-plus";

/** Tell the user what came of long work, and leave time to read it. */
export const tell = (message: string): void => void ElMessage({ type: "success", message, duration: 9000, showClose: true });

export function complain(problem: unknown): void {
  const text = problem instanceof Error ? problem.message : String(problem);
  ElMessage({ message: text, type: "error", duration: 7000, showClose: true, grouping: true });
}
