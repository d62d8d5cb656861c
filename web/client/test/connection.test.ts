import { expect, test, vi } from "vitest";
import {
  type Change,
  type Claim,
  Connection,
  type Edit,
  type Effect,
  type FromParticipant,
  type Kept,
  type Settled,
} from "../src/parts.ts";

import { CLIENT, FakeSocket, fakeSockets, last, open, welcome } from "./fakes.ts";

const add: Edit = { at: "/heads", op: "add", by: 1 };

fakeSockets();

test("it waits until it is welcomed, and proposes nothing before", () => {
  const connection = open({}, "t");
  expect([last().url, last().protocol]).toEqual([
    "ws://gate.example/v1/sessions/gate/connect",
    "rendel.v1.json",
  ]);
  last().open();
  expect(last().sent).toEqual([{ type: "enter", token: "t", client: CLIENT }]);
  expect([connection.standing, connection.propose([add])]).toEqual(["waiting", undefined]);
  last().receive(welcome(3, { state: { heads: 41 } }));
  expect([connection.standing, connection.replica.view]).toEqual(["present", { heads: 41 }]);
});

test("what is proposed without a connection is kept and sent on return, once", () => {
  const connection = open({}, "t");
  last().open();
  last().receive(welcome(3, { state: { heads: 41 } }));
  connection.goOffline();
  expect([connection.propose([add]), connection.standing, connection.replica.view]).toEqual([
    1,
    "offline",
    { heads: 42 },
  ]);
  vi.advanceTimersByTime(60_000);
  expect(FakeSocket.all.length).toBe(1);
  connection.goOnline();
  last().open();
  expect(last().sent).toEqual([
    { type: "enter", token: "t", client: CLIENT, seen: 3, epoch: 1, audience: 0 },
  ]);
  last().receive(welcome(3, { updates: [] }));
  const proposals = last().sent.filter((frame) => frame.type === "propose");
  expect(proposals).toEqual([{ type: "propose", n: 1, seen: 3, answered: 0, edits: [add] }]);
});

test("it comes back by itself in growing waits, and a late word of the old socket is not heard", () => {
  const connection = open({}, "t");
  const first = last();
  first.open();
  first.receive(welcome(3, { state: { heads: 41 } }));
  first.lose();
  expect(connection.standing).toBe("away");
  const tries: number[] = [];
  for (let wait = 0; wait < 40_000; wait += 50) {
    const before = FakeSocket.all.length;
    vi.advanceTimersByTime(50);
    if (FakeSocket.all.length > before) {
      tries.push(wait);
      last().open();
      last().lose();
    }
  }
  const waits = tries.slice(1).map((at, index) => at - (tries[index] ?? 0));
  expect(tries.length).toBeGreaterThan(5);
  expect(waits.at(-1)).toBeGreaterThan(2 * (tries[0] ?? 0) + 500);
  expect(Math.max(...waits)).toBeLessThanOrEqual(5_050);
  first.receive(welcome(9, { state: { heads: 0 } }));
  expect(connection.replica.seq).toBe(3);
});

test("a bye that passes is tried again, any other ends it with its reason", () => {
  const problem = (name: string) => ({
    type: `urn:rendel:problem:${name}`,
    title: "",
    status: 0,
    detail: `because ${name}`,
  });
  const connection = open({}, "t");
  last().open();
  last().receive(welcome(3, { state: { heads: 41 } }));
  last().receive({ type: "bye", problem: problem("shutting-down") });
  expect(connection.standing).toBe("away");
  vi.advanceTimersByTime(1_000);
  expect(FakeSocket.all.length).toBe(2);
  last().open();
  last().receive({ type: "bye", problem: problem("expired-token") });
  expect([connection.standing, connection.problem?.detail]).toEqual([
    "ended",
    "because expired-token",
  ]);
  vi.advanceTimersByTime(60_000);
  expect(FakeSocket.all.length).toBe(2);
});

const refusedToken = (name: string) => ({
  type: "bye" as const,
  problem: { type: `urn:rendel:problem:${name}`, title: "", status: 401, detail: name },
});

test("a function whose token is refused is asked again, and three refusals in a row end it", async () => {
  const tokens = ["<h1>Bad gateway</h1>", "good", "bad", "", "bad"];
  let asked = 0;
  const connection = open({}, async () => tokens[asked++] ?? "none");
  const settle = () => vi.advanceTimersByTimeAsync(6_000);
  await settle();
  last().open();
  last().receive(refusedToken("bad-token"));
  expect(connection.standing).toBe("waiting");
  await settle();
  last().open();
  expect(last().sent[0]).toEqual({ type: "enter", token: "good", client: CLIENT });
  last().receive(welcome(3, { state: { heads: 41 } }));
  expect(connection.propose([add])).toBe(1);
  for (const name of ["expired-token", "no-token"]) {
    last().receive(refusedToken(name));
    expect(connection.standing).toBe("away");
    await settle();
    last().open();
  }
  last().receive(refusedToken("bad-token"));
  expect([connection.standing, connection.problem?.detail]).toEqual(["ended", "bad-token"]);
  await settle();
  expect(asked).toBe(4);
});

test("a function that throws, rejects, gives nothing or never settles is asked again", async () => {
  const answers: (() => Promise<string>)[] = [
    () => {
      throw new Error("thrown");
    },
    () => Promise.reject(new Error("rejected")),
    () => Promise.resolve(undefined as unknown as string),
    () => new Promise(() => {}),
    () => Promise.resolve("t"),
  ];
  const seen: (string | undefined)[] = [];
  let asked = 0;
  const connection = open({}, () => (answers[asked++] as () => Promise<string>)());
  while (FakeSocket.all.length === 0) {
    await vi.advanceTimersByTimeAsync(50);
    const said = connection.problem?.detail;
    if (said !== seen.at(-1)) seen.push(said);
  }
  expect([asked, seen]).toEqual([
    5,
    [
      "no token: Error: thrown",
      "no token: Error: rejected",
      "no token: undefined",
      "no token: too late",
    ],
  ]);
  last().open();
  last().receive(welcome(3, { state: { heads: 41 } }));
  expect(connection.standing).toBe("present");
});

test("a replica that differs enters again for a snapshot and is right afterwards", () => {
  const changes: string[] = [];
  const connection = open(
    { changed: (change: { kind: string }) => changes.push(change.kind) },
    "t",
  );
  last().open();
  last().receive(welcome(3, { state: { heads: 41 } }));
  const effects: Effect[] = [{ at: "/heads/none", op: "set", value: 1 }];
  last().receive({
    type: "settled",
    updates: [{ seq: 4, by: "oda", client: "x", n: 1, at: 0, effects }],
  });
  expect(changes).toEqual(["welcomed", "diverged"]);
  vi.advanceTimersByTime(1_000);
  last().open();
  expect(last().sent).toEqual([{ type: "enter", token: "t", client: CLIENT }]);
  last().receive(welcome(4, { state: { heads: 42 } }));
  expect([connection.standing, connection.replica.view, connection.replica.seq]).toEqual([
    "present",
    { heads: 42 },
    4,
  ]);
});

test("what is pending outlives the page, and is sent by the next one once, with the same numbers", () => {
  let kept: Kept | undefined;
  const claim = (): Claim => ({
    client: CLIENT,
    kept,
    keep: (next) => (kept = next && structuredClone(next)),
    release: () => {},
  });
  const page = () => {
    const connection = new Connection({
      server: "http://gate.example",
      session: "gate",
      token: "t",
      claim: claim(),
    });
    connection.start();
    last().open();
    return connection;
  };
  const first = page();
  last().receive(welcome(3, { state: { heads: 41, notes: "ripe" } }));
  first.goOffline();
  first.propose([add]);
  first.propose([{ at: "/notes", op: "splice", index: 4, delete: 0, insert: " apples" }]);
  vi.advanceTimersByTime(1_000);
  expect(kept?.pending.length).toBe(2);
  const second = page();
  expect(second.replica.view).toEqual({ heads: 42, notes: "ripe apples" });
  expect([second.standing, last().sent]).toEqual([
    "catching-up",
    [{ type: "enter", token: "t", client: CLIENT, seen: 3, epoch: 1, audience: 0 }],
  ]);
  const foreign: Effect[] = [{ at: "/notes", op: "splice", index: 0, delete: 0, insert: "All " }];
  last().receive(
    welcome(4, { updates: [{ seq: 4, by: "bram", client: "x", n: 1, at: 0, effects: foreign }] }),
  );
  expect(second.replica.view).toEqual({ heads: 42, notes: "All ripe apples" });
  const sent = last().sent.flatMap((frame) => (frame.type === "proposals" ? frame.proposals : []));
  expect(sent.map(({ n, seen }) => [n, seen])).toEqual([
    [1, 3],
    [2, 3],
  ]);
  const own = (seq: number, n: number, effects: Effect[]) => ({
    seq,
    by: "oda",
    client: CLIENT,
    n,
    at: 0,
    effects,
  });
  last().receive({
    type: "settled",
    updates: [
      own(5, 1, [{ at: "/heads", op: "add", by: 1, now: 42 }]),
      own(6, 2, [{ at: "/notes", op: "splice", index: 8, delete: 0, insert: " apples" }]),
    ],
  });
  expect([second.replica.pending, second.replica.view]).toEqual([
    [],
    { heads: 42, notes: "All ripe apples" },
  ]);
  vi.advanceTimersByTime(1_000);
  expect(kept).toBeUndefined();
});

test("a service that falls silent is missed", () => {
  const connection = open({}, "t");
  last().open();
  last().receive(welcome(3, { state: { heads: 41 } }));
  vi.advanceTimersByTime(12_000);
  expect(connection.standing).toBe("present");
  vi.advanceTimersByTime(10_000);
  expect(connection.standing).not.toBe("present");
});

test("a page whose timers come once a minute, and one whose clock jumps, keep their connection", () => {
  const connection = open({}, "t");
  last().open();
  last().receive(welcome(3, { state: { heads: 41 } }));
  const clock = vi.spyOn(performance, "now");
  // Timers of a page that nobody looks at: the beat comes when the clock is a minute further.
  let now = performance.now();
  for (let minute = 1; minute <= 5; minute += 1) {
    now += 55_000;
    clock.mockReturnValue(now);
    vi.advanceTimersByTime(5_000);
    expect(last().sent.at(-1)).toMatchObject({ type: "ping", sent: now });
    now += 40;
    clock.mockReturnValue(now);
    last().receive({ type: "pong", sent: now - 40, time: 0 });
  }
  // The clock on the wall is set an hour on, and a day back.
  for (const hours of [1, -24]) {
    vi.setSystemTime(Date.now() + hours * 3_600_000);
    vi.advanceTimersByTime(5_000);
  }
  expect([connection.standing, FakeSocket.all.length]).toEqual(["present", 1]);
  // And yet it is missed once it does not answer.
  for (let minute = 1; minute <= 2; minute += 1) {
    now += 55_000;
    clock.mockReturnValue(now);
    vi.advanceTimersByTime(5_000);
  }
  expect(connection.standing).toBe("away");
});

test("in the middle of a connection a welcome stands for what was lost, and what has no answer is sent again", () => {
  const connection = open({}, "t");
  last().open();
  last().receive(welcome(3, { state: { heads: 41 } }));
  connection.propose([add]);
  last().receive(welcome(900, { state: { heads: 99 } }));
  expect([connection.standing, connection.replica.view]).toEqual(["present", { heads: 100 }]);
  expect(last().sent.filter((frame) => frame.type === "propose").length).toBe(2);
});

test("the latency is the way there and back", () => {
  const connection = open({}, "t");
  last().open();
  last().receive(welcome(3, { state: { heads: 41 } }));
  const ping = last().sent.find((frame) => frame.type === "ping");
  vi.advanceTimersByTime(30);
  last().receive({ type: "pong", sent: ping?.type === "ping" ? ping.sent : 0, time: 0 });
  expect(connection.latency).toBeCloseTo(30, 0);
});

const tooFast = (n: number, wait_ms: number) => ({
  type: "refused" as const,
  n,
  problem: { type: "urn:rendel:problem:too-fast", title: "", status: 429, detail: "", wait_ms },
});
const numbers = (frame: FromParticipant) => {
  if (frame.type === "propose") return [frame.n];
  return frame.type === "proposals" ? frame.proposals.map(({ n }) => n) : [];
};
const proposed = () => last().sent.flatMap(numbers);
const upTo = (n: number) => Array.from({ length: n }, (_, index) => index + 1);

test("a thousand edits made offline are sent in order at the session's rate, and none is lost", () => {
  const told: string[] = [];
  const connection = open({ changed: (change: { kind: string }) => told.push(change.kind) }, "t");
  last().open();
  last().receive(welcome(3, { state: { heads: 41 } }));
  connection.goOffline();
  for (let n = 1; n <= 1_000; n += 1) connection.propose([add]);
  connection.goOnline();
  last().open();
  last().receive(welcome(3, { updates: [] }));
  // What the session takes at once goes in a few frames, then 45 a second of the 50 that it takes.
  const atOnce = proposed().length;
  expect(atOnce).toBeGreaterThanOrEqual(890);
  expect(atOnce).toBeLessThanOrEqual(900);
  expect(last().sent.filter((frame) => numbers(frame).length > 0).length).toBeLessThan(8);
  vi.advanceTimersByTime(1_000);
  expect(proposed().length - atOnce).toBeLessThanOrEqual(46);
  vi.advanceTimersByTime(2_000);
  expect(proposed()).toEqual(upTo(1_000));
  expect([connection.replica.pending.length, told.includes("refused")]).toEqual([1_000, false]);
});

test("no more is on its way than the service remembers outcomes of", () => {
  const connection = open({}, "t");
  last().open();
  last().receive(welcome(3, { state: { heads: 41 } }));
  for (let n = 1; n <= 2_000; n += 1) connection.propose([add]);
  vi.advanceTimersByTime(14_000);
  expect(proposed().length).toBe(1_024);
  const by = { by: "oda", client: CLIENT, at: 0 };
  const effect = (n: number): Effect => ({ at: "/heads", op: "add", by: 1, now: 41 + n });
  const update = (n: number): Settled => ({ ...by, seq: 3 + n, n, effects: [effect(n)] });
  last().receive({ type: "settled", updates: upTo(10).map(update) });
  expect(proposed().length).toBe(1_034);
});

test("where the service remembers nothing of it, what it had not sent is sent anew, and the rest is told", () => {
  const told: Change[] = [];
  const connection = open({ changed: (change: Change) => told.push(change) }, "t");
  last().open();
  last().receive(welcome(3, { state: { heads: 41 } }));
  connection.propose([add]);
  connection.propose([add]);
  connection.goOffline();
  connection.propose([add]);
  connection.goOnline();
  last().open();
  last().receive(welcome(3, { updates: [] }));
  expect(proposed()).toEqual([1, 2, 3]);
  const forgotten = { type: "urn:rendel:problem:forgotten", title: "", status: 409, detail: "" };
  told.length = 0;
  last().receive({ type: "refused", n: 2, problem: { ...forgotten, next_n: 1 } });
  expect(told.map((change) => ("n" in change ? [change.kind, change.n] : change.kind))).toEqual([
    "unknown",
    ["refused", 1],
    ["refused", 2],
    ["made-anew", 1],
  ]);
  expect(connection.standing).toBe("away");
  vi.advanceTimersByTime(1_000);
  last().open();
  last().receive(welcome(3, { updates: [] }));
  expect([proposed(), connection.replica.view]).toEqual([[1], { heads: 42 }]);
});

test("what came too fast is sent again with all behind it, and the application is not told", () => {
  const told: string[] = [];
  const connection = open({ changed: (change: { kind: string }) => told.push(change.kind) }, "t");
  last().open();
  last().receive(welcome(3, { state: { heads: 41 } }));
  for (let n = 1; n <= 5; n += 1) connection.propose([add]);
  expect(proposed()).toEqual([1, 2, 3, 4, 5]);
  last().receive(tooFast(3, 200));
  last().receive(tooFast(4, 20));
  last().receive(tooFast(5, 20));
  vi.advanceTimersByTime(199);
  expect(proposed()).toEqual([1, 2, 3, 4, 5]);
  vi.advanceTimersByTime(200);
  expect(proposed()).toEqual([1, 2, 3, 4, 5, 3, 4, 5]);
  expect([told, connection.replica.pending]).toEqual([["welcomed"], [1, 2, 3, 4, 5]]);
});

test("nothing is proposed once the connection has ended", () => {
  const connection = open({}, "t");
  last().open();
  last().receive(welcome(3, { state: { heads: 41 } }));
  connection.leave();
  expect([connection.propose([add]), connection.replica.pending.length]).toEqual([undefined, 0]);
});
