import type { Json, Settled, Verdict } from "@rendel/client/parts";
import { expect, test } from "vitest";
import type { Charter } from "../api.ts";
import { again } from "./again.ts";

const charter: Charter = {
  charter: "pressing-sheet",
  version: 1,
  state: {
    title: { kind: "register" },
    label: { kind: "register", merge: "all" },
    pressings: {
      kind: "map",
      each: { "a/b": { kind: "register" }, steps: { kind: "list", each: {} } },
    },
    steps: { kind: "list", each: { what: { kind: "register" } } },
    notes: { kind: "text" },
  },
};

function proposed(at: string, lost: Json | undefined, op = "set") {
  const verdict = { edit: 0, at, verdict: "overrode", because: "", lost } as Verdict;
  const update = {
    seq: 2,
    by: "oda",
    client: "",
    n: 1,
    at: 0,
    effects: [{ at, op }],
    verdicts: [verdict],
  } as Settled;
  return again(charter, update, verdict);
}

test("what was lost comes back as the edit that fits where it was", () => {
  const table: [string, Json | undefined, string, unknown][] = [
    ["/title", "West", "set", { at: "/title", op: "set", value: "West" }],
    ["/title", null, "set", { at: "/title", op: "clear" }],
    ["/label", ["dry"], "set", { at: "/label", op: "set", value: "dry" }],
    [
      "/pressings/p~11",
      { x: 1 },
      "drop",
      { at: "/pressings", op: "put", id: "p/1", value: { x: 1 } },
    ],
    ["/pressings/p1/a~1b", 3, "set", { at: "/pressings/p1/a~1b", op: "set", value: 3 }],
    ["/pressings/p1/steps/s", {}, "remove", { at: "/pressings/p1/steps", op: "insert", value: {} }],
    ["/steps/wash", { what: "x" }, "remove", { at: "/steps", op: "insert", value: { what: "x" } }],
    ["/steps/wash", { after: null }, "move", { at: "/steps/wash", op: "move", after: null }],
    ["/steps/wash/what", "x", "set", { at: "/steps/wash/what", op: "set", value: "x" }],
    ["/notes", "x", "splice", undefined],
    ["/title", undefined, "set", undefined],
    ["/nowhere", "x", "set", undefined],
  ];
  for (const [at, lost, op, expected] of table)
    expect(proposed(at, lost, op), at).toEqual(expected);
});
