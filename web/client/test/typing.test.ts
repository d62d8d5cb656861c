import { expect, test } from "vitest";
import type { Counter, MapOf, Register, Session, SetOf, Text } from "../src/index.ts";

type Sheet = {
  fields: {
    pressings: MapOf<{ variety: Register<string>; litres: Counter; notes: Text }>;
    heads: Counter;
    tags: SetOf<"dry" | "sweet">;
  };
  role: "taster" | "cellar";
  presence: { typing: boolean };
  cues: { bell: number };
  edits: { at: "/heads"; op: "add"; by: number };
};

/** Compiled and not run: what is misspelt or misfitting does not compile. */
function compiled(session: Session<Sheet>, loose: Session): void {
  const pressings = session.map("/pressings");
  pressings.put({ variety: "Redstreak" });
  pressings.record("p1").field("variety").set("Foxwhelp");
  pressings.record("p1").field("litres").add(3);
  session.counter("/heads").add();
  session.set("/tags").include("dry");
  session.tell({ typing: true });
  session.cue("bell", { data: 3 });
  const variety: string | null | undefined = session.state?.pressings.p1?.variety;
  loose.map("/anything").put({ whatever: [1, variety ?? null] });
  loose.record("/anything/a").field("x").set(null);
  loose.text("/notes").splice(0, 0, "x");
  session.propose([{ at: "/heads", op: "add", by: 1 }]);
  // @ts-expect-error an edit that the charter does not know
  session.propose([{ at: "/hats", op: "add", by: 1 }]);
  // @ts-expect-error a misspelt path
  session.map("/presings");
  // @ts-expect-error a field of another kind
  session.map("/heads");
  // @ts-expect-error a misspelt field
  pressings.record("p1").field("varity");
  // @ts-expect-error a value of another type
  pressings.put({ variety: 3 });
  // @ts-expect-error a value that is not among those that are declared
  session.set("/tags").include("sour");
  // @ts-expect-error a fact that is not declared
  session.tell({ mood: "dry" });
  // @ts-expect-error a cue with other data
  session.cue("bell", { data: "x" });
}

test("types are checked when this is compiled", () => {
  expect(compiled).toBeTypeOf("function");
});
