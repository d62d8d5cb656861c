import { readFileSync } from "node:fs";
import type { Edit, Json } from "@rendel/client/parts";
import { expect, test } from "vitest";
import type { Charter } from "../api.ts";
import { collisions } from "./collision.ts";

const data = (name: string) =>
  JSON.parse(
    readFileSync(new URL(`../../../../demo/data/${name}.json`, import.meta.url), "utf8"),
  ) as Json;

const charter: Charter = {
  charter: "slope-plan",
  version: 1,
  state: {
    title: { kind: "register", schema: { type: "string", maxLength: 12 } },
    crates: { kind: "counter" },
    "open-rows": { kind: "set", schema: { type: "string" } },
    markers: {
      kind: "map",
      "drop-conflict": "revive",
      each: {
        what: { kind: "register", schema: { enum: ["ladder", "crates", "crew", "hazard"] } },
        spot: {
          kind: "register",
          merge: "max",
          schema: { type: "object", properties: { x: { type: "number", maximum: 120 } } },
        },
      },
    },
  },
};

test("each field gets a collision of two different edits at its path, and a record one of a drop", () => {
  const offered = collisions(charter, data("slope-plan"));
  expect(offered.map((one) => one.id)).toEqual([
    "/title",
    "/crates",
    "/open-rows",
    "/markers/crates-gate/what",
    "/markers/crates-gate/spot",
    "/markers drop",
  ]);
  for (const one of offered) expect(one.edits[0], one.id).not.toEqual(one.edits[1]);
});

const proposedValue = (edit: Edit | undefined) =>
  edit !== undefined && "value" in edit ? edit.value : undefined;

test("the values fit the schema and differ from what is there", () => {
  const offered = collisions(charter, data("slope-plan"));
  const [title, , , what, spot] = offered;
  expect(title?.edits.every(([edit]) => String(proposedValue(edit)).length <= 12)).toBe(true);
  expect(what?.edits.map(([edit]) => proposedValue(edit))).toEqual(["ladder", "crew"]);
  expect(spot?.edits.map(([edit]) => proposedValue(edit))).toEqual([
    { x: 13, y: 7.5 },
    { x: 14, y: 8.5 },
  ]);
  const edge = { markers: { m1: { what: "crew", spot: { x: 120, y: 1 } } } };
  expect(
    collisions(charter, edge)
      .find((one) => one.id.endsWith("spot"))
      ?.edits[0].map(proposedValue)[0],
  ).toEqual({
    x: 116,
    y: 2,
  });
});

test("a map without records offers nothing to collide in", () => {
  const offered = collisions(charter, { title: "x", crates: 0, "open-rows": [], markers: {} });
  expect(offered.map((one) => one.id)).toEqual(["/title", "/crates", "/open-rows"]);
});

const sheet: Charter = {
  charter: "pressing-sheet",
  version: 1,
  state: {
    label: { kind: "register", merge: "all", schema: { type: "string" } },
    pressings: {
      kind: "map",
      each: {
        "pressed-by": { kind: "register", refers: { to: "/crew", "on-drop": "clear" } },
        notes: { kind: "text" },
      },
    },
    crew: { kind: "map", each: { name: { kind: "register", schema: { type: "string" } } } },
    steps: {
      kind: "list",
      each: { what: { kind: "register", schema: { type: "string" } }, done: { kind: "register" } },
    },
    remarks: { kind: "list", "append-only": true, schema: { type: "string" } },
  },
};

test("texts, lists and references have collisions of their own, whose places are there", () => {
  const view = data("pressing-sheet");
  const offered = collisions(sheet, view);
  expect(offered.map((one) => one.id)).toEqual([
    "/label",
    "/pressings/p1/notes",
    "/pressings/p1/notes inside",
    "/pressings/p1/notes overlap",
    "/pressings drop",
    "/crew/bram/name",
    "/crew drop",
    "/steps",
    "/steps move",
    "/steps/wash/what",
    "/steps/wash/done",
    "/steps remove",
    "/remarks",
    "/pressings/p1/pressed-by refers",
  ]);
  const notes = String(
    (view as never as { pressings: { p1: { notes: string } } }).pressings.p1.notes,
  );
  const splices = offered.flatMap((one) => one.edits.flat()).filter((edit) => edit.op === "splice");
  expect(splices.length).toBe(7);
  for (const { index, delete: gone } of splices)
    expect(Number(index) + Number(gone)).toBeLessThanOrEqual(notes.length);
  // A reference is set to a record that somebody else drops at the same moment, and not to the one
  // it has.
  expect(offered.at(-1)?.edits).toEqual([
    [{ at: "/pressings/p1/pressed-by", op: "set", value: "bram" }],
    [{ at: "/crew/bram", op: "drop" }],
  ]);
});
