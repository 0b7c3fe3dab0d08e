import { expect, it } from "vitest";
import { Slots } from "./slots";

const given = (slots: Slots, keys: string, kept?: string) => [...slots.take([...keys], kept).values()];

it("what stays keeps its slot, and what is new takes those that are free, from the top", () => {
  const slots = new Slots();
  expect(given(slots, "abcd")).toEqual([0, 1, 2, 3]);
  expect(given(slots, "xbyz")).toEqual([0, 1, 2, 3]);
  expect(given(slots, "bcx")).toEqual([1, 2, 0]);
  expect(given(slots, "bcxpq")).toEqual([1, 2, 0, 4, 5]);
});

it("the slot of what has the focus is lent to nobody", () => {
  const slots = new Slots();
  given(slots, "ab");
  expect(given(slots, "xy", "a")).toEqual([1, 2]);
});

it("no two have the same", () => {
  const slots = new Slots();
  for (const keys of ["abcdef", "fed", "", "xyzab", "baq", "qrstuvw"]) {
    const all = given(slots, keys, keys[0]);
    expect(new Set(all).size).toBe(all.length);
  }
});
