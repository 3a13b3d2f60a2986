import { describe, expect, it } from "vitest";
import { membersOf, toggled } from "./sets";

describe("members of a set", () => {
  it("lie at octaves or multiples, as far as one hears", () => {
    expect(membersOf(220, 1, "octaves")).toEqual([220]);
    expect(membersOf(220, 4, "octaves")).toEqual([220, 440, 880, 1760]);
    expect(membersOf(220, 4, "multiples")).toEqual([220, 440, 660, 880]);
    expect(membersOf(9000, 16, "multiples")).toEqual([9000, 18000]);
    expect(membersOf(23500, 3, "octaves")).toEqual([23500]);
  });
});

describe("a set", () => {
  it("has an item or not", () => {
    expect([...toggled(new Set([1, 2]), 2)]).toEqual([1]);
    expect([...toggled(new Set([1]), 2)]).toEqual([1, 2]);
  });
});
