import { expect, test } from "vitest";
import { held, isMembers, memberOf, plain, withMember, withoutMember } from "../src/members.ts";
import { type Json, Replica, type Settled } from "../src/parts.ts";

/** Numbers from 0 on, the same at every run. */
function dice(seed: number): (sides: number) => number {
  let state = seed;
  return (sides) => {
    state = (Math.imul(state, 1_664_525) + 1_013_904_223) >>> 0;
    return Math.floor((state / 2 ** 32) * sides);
  };
}

test("a large object that is changed in chunks is as one that is copied whole, and earlier ones stay", () => {
  for (const [seed, size] of [1, 600, 511, 2_000].entries()) {
    const throwDice = dice(seed + 1);
    let model: { [name: string]: Json } = {};
    for (let index = 0; index < size; index += 1) model[`r${throwDice(9_999)}`] = { n: index };
    model["__proto__x".slice(0, -1)] = 1;
    let state = held(model);
    const earlier: [Json, string][] = [];
    for (let step = 0; step < 400; step += 1) {
      if (!isMembers(state)) throw new Error("no members");
      const names = Object.keys(model);
      const name =
        throwDice(3) > 0 ? (names[throwDice(names.length)] ?? "a") : `r${throwDice(9_999)}`;
      if (throwDice(5) < 2) {
        state = withoutMember(state, name);
        const { [name]: _gone, ...rest } = model;
        model = rest;
      } else {
        state = withMember(state, name, { step });
        model = { ...model, [name]: { step } };
      }
      if (!isMembers(state)) throw new Error("no members");
      expect(memberOf(state, name)).toEqual(Object.hasOwn(model, name) ? model[name] : undefined);
      if (step % 100 === 0) earlier.push([state, JSON.stringify(plain(state))]);
    }
    expect(plain(state)).toEqual(model);
    for (const [state, text] of earlier) expect(JSON.stringify(plain(state))).toBe(text);
  }
});

test("what an update does not touch is the same object in the next state", () => {
  const markers: { [id: string]: Json } = {};
  for (let index = 0; index < 5_000; index += 1)
    markers[`m${index}`] = { what: "ladder", row: index };
  const client = "018f0000-0000-7000-8000-000000000001";
  const replica = new Replica(client);
  replica.handle({
    type: "welcome",
    you: { id: "oda", name: "Oda", role: "picker", hue: 1, client },
    session: { id: "slope", charter: "slope", version: 1, status: "open" },
    epoch: 1,
    seq: 0,
    state: { markers, title: "North slope" },
    roster: [],
    limits: { frame: 65536, edits: 256, proposals_per_second: 50 },
    outcomes: [],
    time: 0,
  });
  const before = replica.view as { markers: { [id: string]: Json } };
  const update: Settled = {
    seq: 1,
    by: "bram",
    client,
    n: 1,
    at: 0,
    effects: [{ at: "/markers/m7/what", op: "set", value: "crates" }],
  };
  replica.handle({ type: "settled", updates: [update] });
  const after = replica.view as { markers: { [id: string]: Json } };
  expect(after.markers.m7).toEqual({ what: "crates", row: 7 });
  expect(before.markers.m7).toEqual({ what: "ladder", row: 7 });
  expect(after.markers.m8).toBe(before.markers.m8);
  expect([replica.at("/markers/m7"), replica.at("/markers/nobody")]).toEqual([
    after.markers.m7,
    undefined,
  ]);
  expect(replica.view).toBe(after);
});
