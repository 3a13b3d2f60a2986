import { expect, it } from "vitest";
import { joined } from "./stretches";

it("brings stretches into order and joins those that touch", () => {
  expect(joined([])).toEqual([]);
  expect(joined([[5, 6], [1, 2]])).toEqual([[1, 2], [5, 6]]);
  expect(joined([[1, 4], [2, 3], [4, 5], [6, 7]])).toEqual([[1, 5], [6, 7]]);
});
