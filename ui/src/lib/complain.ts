/** Tell the user what went wrong. The message is a sentence meant for them. */

import { ElMessage } from "element-plus";

export function complain(problem: unknown): void {
  const text = problem instanceof Error ? problem.message : String(problem);
  ElMessage({ message: text, type: "error", duration: 7000, showClose: true, grouping: true });
}
