import { createHash } from "node:crypto";
import { expect, test } from "vitest";
import { canonical, digest, type Json, uuid7 } from "../src/parts.ts";

test("members are sorted by code units and numbers written as ECMAScript writes them", () => {
  const value: Json = {
    b: [1.0, -0, 1e21, 1e-7],
    "\uff21": null,
    "\u{1f34e}": true,
    a: { z: "\u0001/", y: {} },
  };
  expect(canonical(value)).toBe(
    '{"a":{"y":{},"z":"\\u0001/"},"b":[1,0,1e+21,1e-7],"\u{1f34e}":true,"\uff21":null}',
  );
});

test("the digest is SHA-256, whatever the length around the edges of a block", () => {
  for (const length of [0, 1, 53, 54, 55, 61, 62, 63, 64, 117, 118, 119, 1000]) {
    const text = "ö".repeat(Math.floor(length / 2)) + "x".repeat(length % 2);
    expect(digest(text), String(length)).toBe(
      createHash("sha256").update(JSON.stringify(text)).digest("hex"),
    );
  }
});

test("ids are version 7, differ, and sort by time", () => {
  const early = uuid7(1_700_000_000_000);
  const late = uuid7(1_800_000_000_000);
  expect(early).toMatch(/^[0-9a-f]{8}-[0-9a-f]{4}-7[0-9a-f]{3}-[89ab][0-9a-f]{3}-[0-9a-f]{12}$/);
  expect(Number.parseInt(early.replaceAll("-", "").slice(0, 12), 16)).toBe(1_700_000_000_000);
  expect(early < late).toBe(true);
  expect(new Set(Array.from({ length: 1000 }, () => uuid7(1))).size).toBe(1000);
});
