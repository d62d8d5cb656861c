import { readFileSync } from "node:fs";
import { expect, test, vi } from "vitest";
import { connect, type Edit, PROBLEM_KINDS, type Problem, type Session } from "../src/index.ts";
import type { Claim, Fields, FromService, Kept, Propose, Welcome } from "../src/parts.ts";
import { FakeSocket, fakeSockets, last, welcome } from "./fakes.ts";

const fields: Fields = {
  heads: { kind: "counter", min: 0 },
  title: { kind: "register", schema: { type: "string", maxLength: 5 } },
  items: {
    kind: "map",
    each: {
      what: { kind: "register", schema: { type: "string", maxLength: 20 } },
      done: { kind: "register", schema: { type: "boolean" }, initial: false },
      by: { kind: "register", filled: "author" },
      count: { kind: "counter", min: 2 },
      notes: { kind: "text" },
    },
  },
};
const state = { heads: 3, title: "plum", items: {} };
const told = (name: string, n: number): FromService => ({
  type: "refused",
  n,
  problem: { type: `urn:rendel:problem:${name}`, title: "", status: 409, detail: name, current: 4 },
});

fakeSockets();

function enter(more: Partial<Parameters<typeof connect>[0]> = {}): Session {
  const session = connect({ server: "http://gate.example", session: "gate", token: "t", ...more });
  return session;
}

function present(more: Partial<Welcome> = {}): Session {
  const session = enter();
  last().open();
  last().receive(
    welcome(3, { you: { ...you, client: session.parts.replica.client }, state, fields, ...more }),
  );
  return session;
}

const you = { id: "oda", name: "Oda", role: "picker", hue: 1, client: "" };
const proposed = () => last().sent.filter((frame): frame is Propose => frame.type === "propose");

function settle(session: Session, n: number, effects: never[] = []): void {
  const { client } = session.parts.replica;
  last().receive({
    type: "settled",
    updates: [{ seq: session.seq + 1, by: "oda", client, n, at: 0, effects }],
  });
}

test("what a put leaves out is shown with its initial value before anybody has settled it", async () => {
  const session = present();
  const items = session.map("/items");
  const proposal = items.put({ what: "nuts" });
  const expected = { what: "nuts", done: false, by: "oda", count: 2, notes: "" };
  expect(items.value).toEqual({ [proposal.id]: expected });
  expect(items.record(proposal.id).field("done").value).toBe(false);
  // The service fills in the same: what was not said is not sent, and nobody claims who they are.
  expect(proposed()[0]?.edits).toEqual([
    { at: "/items", op: "put", id: proposal.id, value: { what: "nuts" } },
  ]);
  expect([proposal.state, session.pending]).toEqual(["pending", [proposal]]);
  settle(session, 1);
  expect(await proposal.outcome).toEqual({ kind: "settled", seq: 4, verdicts: [] });
  expect([proposal.state, session.pending]).toEqual(["settled", []]);
});

test("what a client can know to be wrong is refused at once, shown nowhere and never sent", async () => {
  const session = present();
  const problems: Problem[] = [];
  session.listen("problem", (problem) => problems.push(problem));
  const wrong: Edit[] = [
    { at: "/title", op: "set", value: "quinces" },
    { at: "/title", op: "set", value: 4 },
    { at: "/items", op: "put", value: { what: "nuts", done: "no" } },
    { at: "/items", op: "put", value: { whot: "nuts" } },
    { at: "/items", op: "put", value: "nuts" },
  ];
  const outcomes = await Promise.all(wrong.map((edit) => session.propose([edit]).outcome));
  const kinds = outcomes.map((outcome) => outcome.kind === "refused" && outcome.problem.kind);
  expect(kinds).toEqual(["wrong-type", "wrong-type", "wrong-type", "unknown-path", "wrong-type"]);
  expect([proposed(), session.state, problems.length]).toEqual([[], state, 5]);
  // What is right goes out, and what another kind would take is told at once.
  session.register("/title").set("🍎🍎🍎🍎🍎");
  expect(proposed().length).toBe(1);
  expect(() => session.map("/heads")).toThrow("/heads is a counter, not a map");
  expect(() => session.counter("/hats")).toThrow("/hats is no field of this session");
});

test("a refusal is an outcome with its kind and what is there now, and what waits for a check says so", async () => {
  const session = present();
  const [first, second] = [session.counter("/heads").add(), session.counter("/heads").add(5)];
  last().receive({ type: "waiting", n: 2 });
  expect([session.state, second.state]).toEqual([{ ...state, heads: 9 }, "checking"]);
  last().receive(told("stale", 1));
  const problem = { kind: "stale", detail: "stale", current: 4 };
  expect(await first.outcome).toEqual({ kind: "refused", problem });
  expect(session.state).toEqual({ ...state, heads: 8 });
});

test("what is listened to is heard until it is not any more, and a place only where it changed", () => {
  const session = present();
  const heard: string[] = [];
  const ends = [
    session.counter("/heads").listen((heads) => heard.push(`heads ${heads}`)),
    session.register("/title").listen((title) => heard.push(`title ${title}`)),
    session.listen("standing", (standing) => heard.push(standing)),
  ];
  session.counter("/heads").add();
  session.register("/title").set("pear");
  last().lose();
  for (const end of ends) end();
  session.counter("/heads").add();
  expect(heard.filter((one) => one !== "present")).toEqual(["heads 4", "title pear", "away"]);
});

test("leaving in a handler of the end, and twice, does no harm; what was pending has an outcome", async () => {
  const session = present();
  session.listen("standing", (standing) => {
    if (standing === "ended") session.leave();
  });
  const proposal = session.counter("/heads").add();
  last().receive({
    type: "bye",
    problem: { type: "urn:rendel:problem:removed", title: "", status: 403, detail: "Out." },
  });
  session.leave();
  const problem = { kind: "removed", detail: "Out." };
  expect([session.standing, session.why]).toEqual(["ended", problem]);
  expect(await proposal.outcome).toEqual({ kind: "refused", problem });
  expect(await session.counter("/heads").add().outcome).toMatchObject({ kind: "refused" });
  vi.advanceTimersByTime(60_000);
  expect(FakeSocket.all.length).toBe(1);
  // Leaving of oneself is no problem.
  const other = present();
  const problems: Problem[] = [];
  other.listen("problem", (told) => problems.push(told));
  other.leave();
  expect([other.standing, other.why, problems]).toEqual(["ended", undefined, []]);
});

test("a token is got for each return, and one that ended in sleep does not end the session", async () => {
  let given = 0;
  const session = enter({ token: async () => `t${++given}` });
  await vi.advanceTimersByTimeAsync(0);
  last().open();
  last().receive(welcome(3, { state, fields }));
  expect(last().sent[0]).toMatchObject({ type: "enter", token: "t1", fields: true });
  last().receive({
    type: "bye",
    problem: { type: "urn:rendel:problem:expired-token", title: "", status: 401, detail: "Ended." },
  });
  expect(session.standing).toBe("away");
  await vi.advanceTimersByTimeAsync(1_000);
  last().open();
  expect(last().sent[0]).toMatchObject({ type: "enter", token: "t2", seen: 3 });
  // How the fields are declared is known by now.
  expect(last().sent[0]).not.toHaveProperty("fields");
});

test("what the browser says of the network counts at once, and a page that slept comes back", async () => {
  const page = new EventTarget();
  vi.stubGlobal("addEventListener", page.addEventListener.bind(page));
  vi.stubGlobal("removeEventListener", page.removeEventListener.bind(page));
  const document = Object.assign(new EventTarget(), { visibilityState: "visible" });
  vi.stubGlobal("document", document);
  const session = present();
  page.dispatchEvent(new Event("offline"));
  expect(session.standing).toBe("away");
  page.dispatchEvent(new Event("online"));
  expect(FakeSocket.all.length).toBe(2);
  last().open();
  last().receive(welcome(3, { updates: [] }));
  // Asleep: no timer runs, and the clock goes on.
  vi.setSystemTime(Date.now());
  const now = performance.now();
  vi.spyOn(performance, "now").mockReturnValue(now + 3_600_000);
  document.dispatchEvent(new Event("visibilitychange"));
  expect([session.standing, FakeSocket.all.length]).toEqual(["away", 3]);
  session.leave();
  page.dispatchEvent(new Event("online"));
  document.dispatchEvent(new Event("visibilitychange"));
  expect(FakeSocket.all.length).toBe(3);
});

test("where no WebSocket gets through it goes on over a line, and comes back to a WebSocket", async () => {
  const posted: string[] = [];
  let say: (event: string) => void = () => {};
  const streams: string[] = [];
  vi.stubGlobal("fetch", async (url: string, init: RequestInit = {}) => {
    if (init.method === "POST") {
      posted.push(...String(init.body).split("\n"));
      return new Response(null, { status: 204 });
    }
    streams.push(url);
    const body = new ReadableStream({
      start: (stream) => {
        say = (event) => stream.enqueue(new TextEncoder().encode(event));
      },
    });
    return new Response(body, { status: 200 });
  });
  const session = enter();
  for (let tries = 0; tries < 2; tries += 1) {
    last().lose();
    await vi.advanceTimersByTimeAsync(1_000);
  }
  await vi.waitFor(() => expect(streams).toEqual(["http://gate.example/v1/sessions/gate/lines"]));
  const frame = (frame: FromService) => `event: frame\ndata: ${JSON.stringify(frame)}\n\n`;
  const first = frame(
    welcome(3, { you: { ...you, client: session.parts.replica.client }, state, fields }),
  );
  // An event may come in pieces.
  say('event: line\ndata: "a-line"\n\n: still here\n\n');
  await vi.waitFor(() => expect(posted.length).toBe(1));
  expect(JSON.parse(posted[0] ?? "")).toMatchObject({ type: "enter", token: "t" });
  say(first.slice(0, 50));
  say(first.slice(50));
  await vi.waitFor(() => expect(session.standing).toBe("present"));
  const proposal = session.counter("/heads").add();
  await vi.waitFor(() => expect(posted.some((text) => text.includes('"propose"'))).toBe(true));
  const { client } = session.parts.replica;
  say(
    frame({ type: "settled", updates: [{ seq: 4, by: "oda", client, n: 1, at: 0, effects: [] }] }),
  );
  expect(await proposal.outcome).toMatchObject({ kind: "settled", seq: 4 });
  // Now and then it looks whether a WebSocket gets through, and goes on over that.
  const before = FakeSocket.all.length;
  await vi.advanceTimersByTimeAsync(5_000);
  expect(FakeSocket.all.length).toBe(before + 1);
  last().open();
  expect(FakeSocket.all.length).toBe(before + 2);
  last().open();
  expect(last().sent[0]).toMatchObject({ type: "enter", seen: 4 });
});

test("a service that is away for a moment is not taken for one that blocks WebSockets", async () => {
  const calls = vi.fn(async () => new Response(null, { status: 404 }));
  vi.stubGlobal("fetch", calls);
  const session = present();
  last().lose();
  await vi.advanceTimersByTimeAsync(1_000);
  last().lose();
  await vi.advanceTimersByTimeAsync(1_000);
  last().open();
  last().receive(welcome(3, { updates: [] }));
  expect([session.standing, calls.mock.calls.length]).toEqual(["present", 0]);
});

test("the kinds of problems are those of the protocol's page", () => {
  const page = readFileSync(new URL("../../../docs/protocol.md", import.meta.url), "utf8");
  const rows = [...page.matchAll(/^\| `([a-z-]+)` \| \d{3} \| 40\d\d \|/gm)].map((row) => row[1]);
  expect([...PROBLEM_KINDS].sort()).toEqual(rows.sort());
});

test("what a final end refused is sent by no later page, and what a leave left pending is", async () => {
  let kept: Kept | undefined;
  const claim = (): Claim => ({
    client: "018f0000-0000-7000-8000-000000000001",
    kept,
    keep: (next) => (kept = next && structuredClone(next)),
    release: () => {},
  });
  const page = () => {
    const session = enter({ claim: claim() });
    last().open();
    last().receive(welcome(3, { state, fields }));
    return session;
  };
  const first = page();
  const add = first.counter("/heads").add();
  first.leave();
  expect([add.state, kept?.pending.length]).toEqual(["pending", 1]);

  const second = page();
  expect(proposed().map(({ n }) => n)).toEqual([1]);
  const again = second.counter("/heads").add();
  last().receive({
    type: "bye",
    problem: { type: "urn:rendel:problem:removed", title: "", status: 403, detail: "removed" },
  });
  expect(await again.outcome).toMatchObject({ kind: "refused" });
  expect([second.pending, kept]).toEqual([[], undefined]);
  page();
  expect(proposed()).toEqual([]);
});
