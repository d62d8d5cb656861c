import { readdirSync, readFileSync } from "node:fs";
import { describe, expect, test } from "vitest";
import { type Anchor, type Edit, type FromService, Replica } from "../src/index.ts";

type Step =
  | { receive: FromService; sends?: unknown[] }
  | { propose: Edit[]; sends: unknown }
  | { anchor: { name: string; at: string; index: number; left: boolean } }
  | { expect: Record<string, unknown> };
type File = { about: string; client: string; cases: { name: string; steps: Step[] }[] };

const folder = new URL("../../../conformance/", import.meta.url);
const files = readdirSync(folder).map((name) => JSON.parse(readFileSync(new URL(name, folder), "utf8")) as File);

test("there are cases", () => {
  expect(files.flatMap((file) => file.cases).length).toBeGreaterThan(20);
});

for (const file of files) {
  describe(file.about, () => {
    for (const { name, steps } of file.cases) {
      test(name, () => run(new Replica(file.client), steps));
    }
  });
}

function sent(replica: Replica): unknown[] {
  const frames: unknown[] = [];
  for (let frame = replica.pollOutgoing(); frame !== undefined; frame = replica.pollOutgoing()) frames.push(frame);
  return frames;
}

function run(replica: Replica, steps: Step[]): void {
  let diverged = false;
  const anchors: Record<string, Anchor> = {};
  for (const step of steps) {
    if ("receive" in step) {
      diverged = replica.handle(step.receive).some((change) => change.kind === "diverged");
      expect(sent(replica)).toEqual(step.sends ?? []);
    } else if ("propose" in step) {
      replica.propose(step.propose);
      expect(sent(replica)[0] ?? null).toEqual(step.sends);
    } else if ("anchor" in step) {
      const { name, at, index, left } = step.anchor;
      anchors[name] = replica.anchor(at, index, left);
    } else {
      const places = Object.entries(anchors).map(([name, { index, isThere }]) => [name, { index, there: isThere }]);
      const actual: Record<string, unknown> = {
        seq: replica.seq,
        confirmed: replica.confirmed ?? null,
        view: replica.view ?? null,
        pending: replica.pending,
        unanswered: replica.unanswered,
        enter: replica.enter(),
        digest: replica.digest(),
        diverged,
        anchors: Object.fromEntries(places),
      };
      for (const [member, expected] of Object.entries(step.expect)) expect(actual[member], member).toEqual(expected);
    }
  }
}
