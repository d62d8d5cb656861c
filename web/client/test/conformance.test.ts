import { readdirSync, readFileSync } from "node:fs";
import { encode } from "cborg";
import { describe, expect, test } from "vitest";
import { applyEffect, valueAt } from "../src/apply.ts";
import { canonical } from "../src/canonical.ts";
import { CBOR_CODEC } from "../src/cbor.ts";
import { digestFrame } from "../src/digests.ts";
import {
  type Anchor,
  digest,
  type Edit,
  type Effect,
  type Facts,
  type FromService,
  followCarets,
  Replica,
} from "../src/parts.ts";

type Step =
  | { receive: FromService; sends?: unknown[] }
  | { propose: Edit[]; sends: unknown }
  | { anchor: { name: string; at: string; index: number; left: boolean } }
  | { expect: Record<string, unknown> };
type File = {
  about: string;
  client: string;
  cases: { name: string; steps: Step[] }[];
  vectors?: { json: unknown; cbor: string }[];
  followed?: { name: string; facts: Facts; effects: Effect[]; then: Facts }[];
};

const folder = new URL("../../../conformance/", import.meta.url);
const files = readdirSync(folder).map(
  (name) => JSON.parse(readFileSync(new URL(name, folder), "utf8")) as File,
);

test("there are cases", () => {
  expect(files.flatMap((file) => file.cases).length).toBeGreaterThan(20);
});

test("frames in CBOR are read from these bytes", () => {
  const vectors = files.flatMap((file) => file.vectors ?? []);
  expect(vectors.length).toBeGreaterThan(3);
  for (const { json, cbor } of vectors)
    expect(CBOR_CODEC.decode(new Uint8Array(Buffer.from(cbor, "hex")).buffer)).toEqual(json);
});

test("facts of presence follow their texts", () => {
  const cases = files.flatMap((file) => file.followed ?? []);
  expect(cases.length).toBeGreaterThan(5);
  for (const { name, facts, effects, then } of cases)
    expect(followCarets(facts, effects), name).toEqual(then);
});

for (const file of files.filter((file) => file.cases.length > 0)) {
  describe(file.about, () => {
    for (const { name, steps } of file.cases) {
      test(name, () => run(new Replica(file.client), steps));
      const returns = steps.some(
        (step, index) => index > 0 && "receive" in step && step.receive.type === "welcome",
      );
      // Anchors belong to a page and go with it.
      if (returns && !steps.some((step) => "anchor" in step))
        test(`${name}, over a reload`, () => run(new Replica(file.client), steps, reloaded));
      test(`${name}, in CBOR`, () => run(new Replica(file.client), steps.map(throughCbor)));
    }
  });
}

/** As the other encoding brings it. */
function throughCbor(step: Step): Step {
  if (!("receive" in step)) return step;
  const bytes = encode(step.receive);
  return {
    ...step,
    receive: CBOR_CODEC.decode(
      bytes.buffer.slice(bytes.byteOffset, bytes.byteOffset + bytes.length) as ArrayBuffer,
    ),
  };
}

function sent(replica: Replica): unknown[] {
  const frames: unknown[] = [];
  for (let frame = replica.pollOutgoing(); frame !== undefined; frame = replica.pollOutgoing())
    frames.push(frame);
  return frames;
}

/** A page that was loaded again knows what was kept beside it. */
function reloaded(replica: Replica): Replica {
  const kept = replica.kept();
  return kept === undefined ? replica : Replica.restore(JSON.parse(JSON.stringify(kept)));
}

async function run(
  first: Replica,
  steps: Step[],
  beforeWelcome = (replica: Replica) => replica,
): Promise<void> {
  let replica = first;
  let diverged = false;
  const anchors: Record<string, Anchor> = {};
  for (const step of steps) {
    if ("receive" in step) {
      if (step.receive.type === "welcome") replica = beforeWelcome(replica);
      const changes = replica.handle(step.receive);
      diverged = changes.some((change) => change.kind === "diverged");
      // What a connection makes of it.
      const compared = changes.filter((change) => change.kind === "compared");
      const asked = compared.map(({ seq, confirmed, own }) =>
        digestFrame(seq, confirmed, own, canonical, valueAt, applyEffect),
      );
      const digests = await Promise.all(asked);
      expect([...sent(replica), ...digests]).toEqual(step.sends ?? []);
    } else if ("propose" in step) {
      replica.propose(step.propose);
      expect(sent(replica)[0] ?? null).toEqual(step.sends);
    } else if ("anchor" in step) {
      const { name, at, index, left } = step.anchor;
      anchors[name] = replica.anchor(at, index, left);
    } else {
      const places = Object.entries(anchors).map(([name, { index, isThere }]) => [
        name,
        { index, there: isThere },
      ]);
      const actual: Record<string, unknown> = {
        seq: replica.seq,
        confirmed: replica.confirmed ?? null,
        view: replica.view ?? null,
        pending: replica.pending,
        unanswered: replica.unanswered,
        enter: replica.enter(),
        digest: replica.confirmed === undefined ? undefined : digest(replica.confirmed),
        diverged,
        anchors: Object.fromEntries(places),
      };
      for (const [member, expected] of Object.entries(step.expect))
        expect(actual[member], member).toEqual(expected);
    }
  }
}
