import { expect, test, vi } from "vitest";
import {
  type Change,
  type Claim,
  Connection,
  type Cue,
  type Edit,
  type FromParticipant,
  type Problem,
} from "../src/parts.ts";
import { CLIENT, FakeSocket, fakeSockets, last, open, welcome } from "./fakes.ts";

const state = { heads: 41 };
const add: Edit = { at: "/heads", op: "add", by: 1 };
const sent = (type: FromParticipant["type"]) => last().sent.filter((frame) => frame.type === type);
const problem = (name: string): Problem => ({
  type: `urn:rendel:problem:${name}`,
  title: "",
  status: 409,
  detail: name,
});

fakeSockets();

/** Present in a session whose presence goes at 10 a second, with a fact that lapses. */
function present(events = {}, token = "t"): Connection {
  const connection = open(events, token);
  last().open();
  const limits = { frame: 65536, edits: 256, proposals_per_second: 50, burst: 1_000 };
  const presence = { presence_per_second: 10, presence_lapses_ms: { typing: 2_000 } };
  last().receive(welcome(3, { state, limits: { ...limits, ...presence } }));
  return connection;
}

function comeBack(): void {
  vi.advanceTimersByTime(10_000);
  last().open();
}

test("those who were lost together do not come back together, and a welcome begins the waits anew", () => {
  const waits = [0, 1].map((chance) => {
    vi.spyOn(Math, "random").mockReturnValue(chance);
    present();
    for (let round = 0; round < 3; round += 1) {
      last().lose();
      comeBack();
      last().receive(welcome(3, { updates: [] }));
    }
    last().lose();
    const sockets = FakeSocket.all.length;
    let wait = 0;
    for (; FakeSocket.all.length === sockets; wait += 1) vi.advanceTimersByTime(1);
    return wait;
  });
  // The first wait is 200 ms, of which half is spread, also after several losses.
  expect(waits).toEqual([100, 200]);
});

test("presence is told at the session's rate as the newest of each, and said again on return but for what has lapsed", () => {
  vi.advanceTimersByTime(1_000);
  const connection = present();
  connection.say({ typing: true, pointer: { x: 1, y: 1 } });
  for (let x = 2; x < 20; x += 1) {
    connection.say({ pointer: { x, y: 1 } });
    vi.advanceTimersByTime(10);
  }
  expect(sent("presence").map((frame) => "set" in frame && frame.set)).toEqual([
    { typing: true, pointer: { x: 2, y: 1 } },
    { pointer: { x: 11, y: 1 } },
  ]);
  last().lose();
  connection.say({ pointer: { x: 30, y: 1 }, selection: null });
  comeBack();
  expect(last().sent).toEqual([
    {
      type: "enter",
      token: "t",
      client: CLIENT,
      seen: 3,
      epoch: 1,
      audience: 0,
      presence: { pointer: { x: 30, y: 1 } },
    },
  ]);
});

test("what is said while a welcome is waited for is told after it", () => {
  const connection = present();
  last().lose();
  comeBack();
  connection.say({ pointer: { x: 7, y: 1 } });
  vi.advanceTimersByTime(1_000);
  expect(sent("presence")).toEqual([]);
  last().receive(welcome(3, { updates: [] }));
  vi.advanceTimersByTime(1_000);
  expect(sent("presence").map((frame) => "set" in frame && frame.set)).toEqual([
    { pointer: { x: 7, y: 1 } },
  ]);
});

test("those who look on are counted beside those who are named", () => {
  const connection = present();
  const named = connection.replica.roster.length;
  expect(connection.replica.count).toBe(named);
  last().receive({ type: "roster", count: 7 });
  last().receive({ type: "roster", changed: [] });
  expect([connection.replica.count, connection.replica.roster.length]).toEqual([7, named]);
});

test("what others tell is kept by their tabs, and one's own word is passed over", () => {
  const connection = present();
  const other = "018f0000-0000-7000-8000-000000000002";
  const at = (x: number) => ({ pointer: { x, y: 1 } });
  last().receive({
    type: "presence",
    of: { oda: { [CLIENT]: at(1), [other]: at(2) }, bram: { a: at(3), b: at(4) } },
  });
  last().receive({ type: "presence", of: { bram: { a: null, b: at(5) } } });
  const told = [...connection.replica.presence].map(([who, tabs]) => [who, [...tabs]]);
  expect(told).toEqual([
    ["oda", [[other, at(2)]]],
    ["bram", [["b", at(5)]]],
  ]);
  last().receive({ type: "presence", of: { bram: { b: null } } });
  expect(connection.replica.presence.has("bram")).toBe(false);
});

test("each ask has its own answer, and a loss answers all that are open", async () => {
  const connection = present();
  const [one, two] = [connection.hold("/heads"), connection.release("/rows")];
  last().receive({ type: "answer", n: 2, problem: problem("held") });
  last().receive({ type: "answer", n: 1 });
  expect([await one, (await two)?.detail]).toEqual([undefined, "held"]);
  const open = connection.cue("ready", { data: 1 });
  last().lose();
  expect((await open)?.status).toBe(503);
  expect((await connection.hold("/heads"))?.status).toBe(503);
  expect(sent("hold").length).toBe(1);
});

test("cues and notices are told, and a caret of somebody else moves with its text", () => {
  const told: (Cue | Problem)[] = [];
  const note = (word: Cue | Problem) => told.push(word);
  present({ cued: note, noticed: note });
  last().receive({ type: "cue", name: "ready", by: "bram", data: { row: 4 } });
  last().receive({ type: "notice", problem: problem("malformed") });
  expect(told).toEqual([{ name: "ready", by: "bram", data: { row: 4 } }, problem("malformed")]);
});

test("a guest comes back as the same guest, and a new token goes with every return", async () => {
  const guest = open();
  last().open();
  last().receive(welcome(3, { state, token: "guest-7" }));
  last().lose();
  comeBack();
  expect(sent("enter")).toMatchObject([{ token: "guest-7" }]);
  last().receive(welcome(3, { updates: [] }));
  const renewed = guest.renew("later");
  last().receive({ type: "answer", n: 1 });
  expect([await renewed, sent("renew")]).toMatchObject([undefined, [{ token: "later" }]]);
  last().lose();
  comeBack();
  expect(sent("enter")).toMatchObject([{ token: "later" }]);
});

test("who leaves says so, keeps what is pending and lets another page have the client", () => {
  const log: string[] = [];
  const claim: Claim = {
    client: CLIENT,
    kept: undefined,
    keep: (kept) => log.push(`keep ${kept?.pending.length ?? "nothing"}`),
    release: () => log.push("release"),
  };
  const connection = new Connection({ server: "http://gate.example", session: "gate", claim });
  connection.start();
  last().open();
  last().receive(welcome(3, { state }));
  connection.propose([add]);
  connection.leave();
  expect([log, sent("leave").length, connection.standing]).toEqual([
    ["keep 1", "release"],
    1,
    "ended",
  ]);
  vi.advanceTimersByTime(60_000);
  expect([FakeSocket.all.length, log.length]).toEqual([1, 2]);
});

test("what no service could read is refused here, and nothing is pending", async () => {
  const told: Change[] = [];
  const connection = present({ changed: (change: Change) => told.push(change) });
  told.length = 0;
  for (const value of ["half \ud83c", "\udf4e", { "\ud83c": 1 }])
    connection.propose([{ at: "/title", op: "set", value }]);
  connection.propose([
    { at: "/title", op: "set", value: "whole \ud83c\udf4e, and \\ud83c in words" },
  ]);
  await vi.advanceTimersByTimeAsync(1);
  const names = told.map((change) =>
    change.kind === "refused" ? change.problem.type : change.kind,
  );
  expect(names).toEqual(Array(3).fill("urn:rendel:problem:wrong-type"));
  expect([connection.replica.pending, sent("propose").length]).toEqual([[4], 1]);
});

test("who goes offline stays so", () => {
  const connection = present();
  last().lose();
  connection.goOffline();
  vi.advanceTimersByTime(60_000);
  expect([FakeSocket.all.length, connection.standing]).toEqual([1, "offline"]);
  connection.say({ typing: true });
  vi.advanceTimersByTime(1_000);
  connection.goOnline();
  // A socket that is not open yet is told nothing of it.
  last().readyState = FakeSocket.OPEN;
  connection.say({ typing: false });
  vi.advanceTimersByTime(1_000);
  expect(last().sent).toEqual([]);
});

test("many edits and large ones count as several, and no frame is larger than the session takes", () => {
  const told: Change[] = [];
  const connection = open({ changed: (change) => told.push(change) });
  last().open();
  const limits = { frame: 8_192, edits: 256, proposals_per_second: 10, burst: 20 };
  last().receive(welcome(3, { state: { ...state, title: null }, limits }));
  const numbers = () =>
    last().sent.flatMap((frame) => {
      if (frame.type === "propose") return [frame.n];
      return frame.type === "proposals" ? frame.proposals.map(({ n }) => n) : [];
    });
  // Each counts as four, of 18 that may go at once.
  for (let n = 0; n < 6; n += 1) connection.propose(Array.from({ length: 64 }, () => add));
  const atOnce = numbers().length;
  expect(atOnce).toBeLessThanOrEqual(5);
  vi.advanceTimersByTime(1_000);
  expect(numbers().length - atOnce).toBeLessThanOrEqual(3);
  connection.goOffline();
  const text = "x".repeat(1_500);
  for (let n = 0; n < 4; n += 1) connection.propose([{ at: "/title", op: "set", value: text }]);
  connection.goOnline();
  last().open();
  last().receive(welcome(3, { updates: [], limits: { ...limits, burst: 1_000 } }));
  const sizes = last().sent.map((frame) => JSON.stringify(frame).length);
  expect([numbers().length, Math.max(...sizes) <= 8_192]).toEqual([10, true]);
});
