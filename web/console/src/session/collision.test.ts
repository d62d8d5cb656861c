import { readFileSync } from "node:fs";
import type { Json } from "@rendel/client";
import { expect, test } from "vitest";
import type { Charter } from "../api.ts";
import { collisions } from "./collision.ts";

const data = (name: string) =>
  JSON.parse(readFileSync(new URL(`../../../../demo/data/${name}.json`, import.meta.url), "utf8")) as Json;

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
    "/markers/crates-gate drop",
  ]);
  for (const one of offered) expect(one.edits[0], one.id).not.toEqual(one.edits[1]);
});

test("the values fit the schema and differ from what is there", () => {
  const offered = collisions(charter, data("slope-plan"));
  const [title, , , what, spot] = offered;
  expect(title?.edits.every(([edit]) => String(edit?.value).length <= 12)).toBe(true);
  expect(what?.edits.map(([edit]) => edit?.value)).toEqual(["ladder", "crew"]);
  expect(spot?.edits.map(([edit]) => edit?.value)).toEqual([
    { x: 13, y: 7.5 },
    { x: 14, y: 8.5 },
  ]);
  const edge = { markers: { m1: { what: "crew", spot: { x: 120, y: 1 } } } };
  expect(collisions(charter, edge).find((one) => one.id.endsWith("spot"))?.edits[0][0]?.value).toEqual({
    x: 116,
    y: 2,
  });
});

test("a map without records offers nothing to collide in", () => {
  const offered = collisions(charter, { title: "x", crates: 0, "open-rows": [], markers: {} });
  expect(offered.map((one) => one.id)).toEqual(["/title", "/crates", "/open-rows"]);
});
