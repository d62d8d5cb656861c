import { expect, test } from "vitest";
import { connect } from "../src/index.ts";
import { follow, type Row, type RowStep, rowsOnly, stepped } from "../src/queries.ts";
import { fakeSockets, last, welcome } from "./fakes.ts";

fakeSockets();

const row = (id: string, crates: number): Row<{ crates: number }> => ({
  path: `/pickers/${id}`,
  value: { crates },
});

function present() {
  const session = rowsOnly(
    connect({ server: "http://gate.example", session: "board", token: "t" }),
  );
  const { client } = session.parts.replica;
  const come = () => {
    last().open();
    last().receive(welcome(3, { you: { id: "oda", name: "Oda", role: "picker", hue: 1, client } }));
  };
  come();
  return { session, come };
}

const asked = () => last().sent.filter(({ type }) => type === "follow-query");

test("rows follow step by step, again after a return, and are asked for anew where steps do not fit", async () => {
  const { session, come } = present();
  expect(last().sent[0]).toMatchObject({ type: "enter", stateless: true });
  await Promise.resolve();
  const it = follow<{ crates: number }>(session, { name: "leaders", with: { row: "east" } });
  expect([it.rows, asked().length]).toEqual([undefined, 1]);
  const { query } = asked()[0] as { query: number };
  const heard: unknown[] = [];
  const end = it.listen((steps) => heard.push(steps));
  last().receive({
    type: "rows",
    query,
    mark: "m1",
    seq: 3,
    rows: [row("p1", 9), row("p2", 5)],
    end: [5, "p2"],
  });
  const steps: RowStep<{ crates: number }>[] = [
    { step: "out", at: 0 },
    { step: "in", at: 1, row: row("p3", 4) },
    { step: "move", at: 1, to: 0 },
    { step: "change", at: 0, value: { crates: 8 } },
  ];
  last().receive({ type: "row-steps", query, seq: 4, steps });
  expect(it.rows).toEqual([row("p3", 8), row("p2", 5)]);
  expect([heard, it.end]).toEqual([[undefined, steps], undefined]);
  last().receive({ type: "row-steps", query, seq: 5, steps: [{ step: "out", at: 7 }] });
  expect([asked().length, it.rows?.length]).toEqual([2, 2]);
  expect(asked()[1]).not.toHaveProperty("had");
  last().receive({ type: "rows", query, mark: "m1", seq: 5, rows: [row("p3", 8)] });
  // What was asked for before newer rows came is in them already.
  last().receive({ type: "row-steps", query, seq: 5, since: 2, steps: [{ step: "out", at: 0 }] });
  expect(it.rows).toEqual([row("p3", 8)]);
  // What somebody else follows is not theirs.
  last().receive({ type: "rows", query: query + 1, seq: 5, rows: [] });
  expect(it.rows?.length).toBe(1);

  last().lose();
  session.parts.goOffline();
  session.parts.goOnline();
  come();
  await Promise.resolve();
  const ask = { name: "leaders", with: { row: "east" } };
  const had = { mark: "m1", seq: 5 };
  expect(asked()).toEqual([{ type: "follow-query", query, ask, had }]);
  const since: RowStep[] = [{ step: "in", at: 0, row: row("p4", 9) }];
  last().receive({ type: "row-steps", query, seq: 9, since: 5, steps: since });
  expect(it.rows).toEqual([row("p4", 9), row("p3", 8)]);
  last().receive({ type: "row-steps", query, seq: 11, since: 8, steps: [] });
  expect([asked().length, it.rows?.length]).toEqual([2, 2]);
  const problem = {
    type: "urn:rendel:problem:not-allowed",
    title: "No",
    status: 403,
    detail: "No.",
  };
  last().receive({ type: "query-refused", query, problem });
  expect([it.rows, it.problem?.kind]).toEqual([undefined, "not-allowed"]);
  end();
  it.leave();
  expect(last().sent.some(({ type }) => type === "leave-query")).toBe(false);
  const other = follow(session, { path: "/crates" });
  other.leave();
  expect(last().sent.at(-1)?.type).toBe("leave-query");
});

test("steps that belong to other rows are found", () => {
  const rows = [row("p1", 1)];
  const bad: RowStep<{ crates: number }>[] = [
    { step: "out", at: 1 },
    { step: "in", at: 2, row: row("p2", 1) },
    { step: "change", at: 1, value: { crates: 2 } },
  ];
  for (const step of bad) expect(stepped(rows, [step])).toBeUndefined();
  expect(rows).toEqual([row("p1", 1)]);
});
