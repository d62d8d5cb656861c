import { expect, test } from "vitest";
import { scalarCount, spliceBetween, toScalars, toUnits } from "../src/parts.ts";

test("positions turn into each other, and the middle of a pair counts as before it", () => {
  const text = "a\u{1f34e}e\u0301ש";
  expect(scalarCount(text)).toBe(5);
  expect([0, 1, 2, 3, 4, 5, 6].map((units) => toScalars(text, units))).toEqual([
    0, 1, 1, 2, 3, 4, 5,
  ]);
  expect([0, 1, 2, 3, 4, 5, 9].map((scalars) => toUnits(text, scalars))).toEqual([
    0, 1, 3, 4, 5, 6, 6,
  ]);
});

test("a splice is the smallest one, and ends at the caret where it could be elsewhere", () => {
  const table: [string, string, number | undefined, unknown][] = [
    ["dry", "dry", undefined, undefined],
    ["dry", "dry!", undefined, { index: 3, delete: 0, insert: "!" }],
    ["dry apple", "dry pear", 8, { index: 4, delete: 5, insert: "pear" }],
    ["aaa", "aaaa", 2, { index: 1, delete: 0, insert: "a" }],
    ["aaa", "aaaa", 4, { index: 3, delete: 0, insert: "a" }],
    ["aaa", "aa", 1, { index: 1, delete: 1, insert: "" }],
    ["\u{1f34e}\u{1f34f}", "\u{1f34f}", 0, { index: 0, delete: 1, insert: "" }],
    ["", "ripe", 4, { index: 0, delete: 0, insert: "ripe" }],
  ];
  for (const [before, after, caret, expected] of table) {
    const splice = spliceBetween(before, after, caret);
    expect(splice, `${before} to ${after}`).toEqual(expected);
    if (splice === undefined) continue;
    const chars = Array.from(before);
    chars.splice(splice.index, splice.delete, splice.insert);
    expect(chars.join("")).toBe(after);
  }
});
