import { expect, test } from "vitest";
import { connect } from "../src/index.ts";
import type { FromParticipant, Propose } from "../src/parts.ts";
import { beginGesture, gesture, undoing } from "../src/undo.ts";
import { fakeSockets, last, welcome } from "./fakes.ts";

fakeSockets();

const you = { id: "oda", name: "Oda", role: "picker", hue: 1 };

function present() {
  const session = connect({ server: "http://gate.example", session: "gate", token: "t" });
  const { client } = session.parts.replica;
  const come = () => {
    last().open();
    last().receive(welcome(3, { you: { ...you, client }, state: { heads: 3, title: "plum" } }));
  };
  come();
  const settle = (n: number) =>
    last().receive({
      type: "settled",
      updates: [{ seq: session.seq + 1, by: "oda", client, n, at: 0, effects: [] }],
    });
  return { session, come, settle };
}

const proposed = () =>
  last()
    .sent.flatMap((frame): Omit<Propose, "type">[] =>
      frame.type === "proposals" ? frame.proposals : frame.type === "propose" ? [frame] : [],
    )
    .map(({ edits, gesture: of }) => [of, edits[0]]);
const asked = (type: FromParticipant["type"]) =>
  last().sent.filter((frame) => frame.type === type).length;

test("what can be undone is followed by all who ask, again after a return, and named in the edit", async () => {
  const { session, come, settle } = present();
  const it = undoing(session);
  expect(undoing(session)).toBe(it);
  expect([asked("follow-undo"), it.undoable]).toEqual([1, { undo: null, redo: null }]);
  let heard = 0;
  const end = it.listen(() => {
    heard += 1;
  });
  const undo = { of: 7, edits: [{ at: "/title", op: "set" }] };
  last().receive({ type: "undoable", undo, redo: null });
  expect([heard, it.undoable]).toEqual([1, { undo, redo: null }]);
  const proposal = it.undo();
  expect(proposed()).toEqual([[undefined, { at: "", op: "undo", skip: true, of: 7 }]]);
  settle(1);
  expect((await proposal?.outcome)?.kind).toBe("settled");
  end();
  last().lose();
  session.parts.goOffline();
  session.parts.goOnline();
  come();
  await Promise.resolve();
  expect([asked("follow-undo"), heard]).toEqual([1, 1]);
  expect(it.undoable).toEqual({ undo: null, redo: null });
  // Within a path it is for the service to say what comes first.
  it.redo("/title");
  expect(proposed()).toEqual([[undefined, { at: "/title", op: "redo", skip: true }]]);
});

test("a gesture is one, those within it are part of it, and it ends with a promise", async () => {
  const { session } = present();
  const add = () => session.propose([{ at: "/heads", op: "add", by: 1 }]);
  gesture(session, "count", () => {
    add();
    gesture(session, "more", add);
  });
  add();
  await gesture(session, "slowly", async () => {
    await Promise.resolve();
    add();
  });
  const done = beginGesture(session, "drag");
  add();
  done();
  add();
  const names = session.parts.replica.asked.map(({ more }) => more.gesture);
  expect(names[0]).toBe(names[1]);
  expect(names.map((name) => name?.slice(0, -7))).toEqual([
    "count",
    "count",
    undefined,
    "slowly",
    "drag",
    undefined,
  ]);
  expect(() =>
    gesture(session, "wrong", () => {
      throw new Error("in it");
    }),
  ).toThrow("in it");
  expect(session.parts.more?.gesture).toBeUndefined();
});

test("without a connection the last gesture is cancelled, and what was sent before is undone later", async () => {
  const { session } = present();
  const it = undoing(session);
  const sent = session.propose([{ at: "/title", op: "set", value: "pear" }]);
  session.parts.goOffline();
  const own = gesture(session, "count", () => [
    session.propose([{ at: "/heads", op: "add", by: 1 }]),
    session.propose([{ at: "/heads", op: "add", by: 2 }]),
  ]);
  expect(session.state).toEqual({ heads: 6, title: "pear" });
  expect(it.undo()).toBeUndefined();
  expect(session.state).toEqual({ heads: 3, title: "pear" });
  for (const one of own)
    expect(await one.outcome).toMatchObject({ problem: { kind: "nothing-to-undo" } });
  // That one may have got there: only the service can take it back.
  const later = it.undo();
  expect([later?.edits, session.pending]).toEqual([
    [{ at: "", op: "undo", skip: true }],
    [sent, later],
  ]);
});
