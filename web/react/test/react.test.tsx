// @vitest-environment happy-dom
import type { Counter, Edit, MapOf, Register, Session } from "@rendel/client";
import type { PieceEditor, Replaced } from "@rendel/client/text";
import { act, StrictMode, Suspense } from "react";
import { createRoot } from "react-dom/client";
import { renderToString } from "react-dom/server";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { FakeSocket, last, welcome } from "../../client/test/fakes.ts";
import {
  hooksOf,
  Inside,
  useAt,
  useKnown,
  usePeople,
  usePropose,
  useStanding,
  useUnanswered,
} from "../src/index.tsx";
import { useBallot, useSeats } from "../src/play.tsx";
import { useFacts, useTell } from "../src/presence.tsx";
import { useRows } from "../src/queries.tsx";
import { useBoundEditor, useBoundText } from "../src/text.tsx";

vi.stubGlobal("IS_REACT_ACT_ENVIRONMENT", true);
const state = { heads: 3, title: "plum", notes: "ripe" };
const options = { server: "http://gate.example", session: "gate", token: "t" };

let page: HTMLElement;
let root: ReturnType<typeof createRoot>;

beforeEach(() => {
  FakeSocket.all = [];
  vi.stubGlobal("WebSocket", FakeSocket);
  page = document.body.appendChild(document.createElement("main"));
  root = createRoot(page);
});

afterEach(async () => {
  await act(async () => root.unmount());
  page.remove();
});

const drawn: string[] = [];
let propose: Session["propose"] | undefined;

function Heads() {
  drawn.push("heads");
  const given = usePropose();
  propose = given;
  return <b>{useAt<number>("/heads") ?? "none yet"}</b>;
}

function Title() {
  drawn.push("title");
  return <i>{useKnown<string>("/title")}</i>;
}

function Notes() {
  return <textarea ref={useBoundText("/notes")} />;
}

function Standing() {
  return (
    <u>
      {useStanding()} {usePeople().length} {useUnanswered()}
    </u>
  );
}

const everything = (
  <Inside options={options}>
    <Heads />
    <Suspense fallback={<s>waiting</s>}>
      <Title />
    </Suspense>
    <Standing />
  </Inside>
);

async function enter() {
  await act(async () => {
    last().open();
    const roster = [{ id: "bram", name: "Bram", role: "picker", hue: 2, connections: 1 }];
    last().receive(welcome(3, { state, roster }));
  });
}

test("each draws again for what it reads and for nothing else, and shows own edits at once", async () => {
  await act(async () => root.render(everything));
  expect(page.textContent).toBe("none yetwaitingwaiting 0 0");
  await enter();
  expect(page.textContent).toBe("3plumpresent 1 0");
  drawn.length = 0;
  await act(async () => void propose?.([{ at: "/heads", op: "add", by: 2 }]));
  expect([page.textContent, drawn]).toEqual(["5plumpresent 1 1", ["heads"]]);
  await act(async () => last().lose());
  expect([page.textContent, drawn]).toEqual(["5plumaway 1 1", ["heads"]]);
});

test("in strict mode there is one connection, and none when it is not shown any more", async () => {
  await act(async () => root.render(<StrictMode>{everything}</StrictMode>));
  await enter();
  const open = () => FakeSocket.all.filter((socket) => socket.readyState <= 1).length;
  expect([page.textContent, open()]).toEqual(["3plumpresent 1 0", 1]);
  await act(async () => root.render(<StrictMode>gone</StrictMode>));
  expect(open()).toBe(0);
});

function Leaders({ row }: { row: string }) {
  const { rows, problem } = useRows<string>({ name: "leaders", with: { row } });
  return <b>{problem?.kind ?? rows?.map(({ value }) => value).join() ?? "waiting"}</b>;
}

test("rows are followed also in strict mode, anew where the query is another, and left at the end", async () => {
  const shown = (row: string) => (
    <StrictMode>
      <Inside options={options}>
        <Leaders row={row} />
      </Inside>
    </StrictMode>
  );
  const sent = (type: "follow-query" | "leave-query") =>
    last().sent.flatMap((frame) => (frame.type === type ? [frame.query] : []));
  const open = () =>
    sent("follow-query")
      .filter((query) => !sent("leave-query").includes(query))
      .at(-1) ?? 0;
  await act(async () => root.render(shown("east")));
  await enter();
  expect(page.textContent).toBe("waiting");
  const rows = [{ path: "/p/a", value: "Oda" }];
  await act(async () => last().receive({ type: "rows", query: open(), seq: 1, rows }));
  expect(page.textContent).toBe("Oda");
  const step = { step: "in" as const, at: 0, row: { path: "/p/b", value: "Bram" } };
  const steps = { type: "row-steps" as const, query: open(), seq: 2, steps: [step] };
  await act(async () => last().receive(steps));
  expect(page.textContent).toBe("Bram,Oda");
  const before = open();
  await act(async () => root.render(shown("west")));
  expect([page.textContent, sent("leave-query").at(-1)]).toEqual(["waiting", before]);
  expect(open()).not.toBe(before);
});

test("what a server has read is drawn there, and at first in the browser", async () => {
  const first = (
    <Inside options={options} first={state}>
      <Heads />
      <Title />
    </Inside>
  );
  expect(renderToString(first)).toBe("<b>3</b><i>plum</i>");
  await act(async () => root.render(first));
  expect(page.textContent).toBe("3plum");
  await act(async () => {
    last().open();
    last().receive(welcome(4, { state: { ...state, heads: 4 } }));
  });
  expect(page.textContent).toBe("4plum");
  expect(() => renderToString(<Heads />)).toThrow("put <Inside session={…}> around it");
});

test("a textarea is bound to its text: typing is proposed, others' typing moves around the caret", async () => {
  await act(async () =>
    root.render(
      <Inside options={options}>
        <Notes />
      </Inside>,
    ),
  );
  await enter();
  const area = page.querySelector("textarea") as HTMLTextAreaElement;
  expect(area.value).toBe("ripe");
  await act(async () => {
    area.focus();
    area.value = "ripe 🍎";
    area.setSelectionRange(7, 7);
    area.dispatchEvent(new Event("input"));
  });
  expect(last().sent.at(-1)).toMatchObject({
    type: "propose",
    edits: [{ at: "/notes", op: "splice", index: 4, delete: 0, insert: " 🍎" }],
  });
  await act(async () =>
    last().receive({
      type: "settled",
      updates: [
        {
          seq: 4,
          by: "bram",
          client: "x",
          n: 1,
          at: 0,
          effects: [{ at: "/notes", op: "splice", index: 0, delete: 0, insert: "very " }],
        },
      ],
    }),
  );
  expect([area.value, area.selectionStart]).toEqual(["very ripe 🍎", 12]);
});

/** A rich editor, as far as a text is concerned. */
class Pieces implements PieceEditor {
  text = "";
  taken: Replaced[] = [];
  type: (changes: readonly Replaced[]) => void = () => {};
  show(text: string) {
    this.text = text;
  }
  take(change: Replaced) {
    this.taken.push(change);
    this.put(change);
  }
  put({ index, delete: gone, insert }: Replaced) {
    this.text = this.text.slice(0, index) + insert + this.text.slice(index + gone);
  }
  listen(heard: (changes: readonly Replaced[]) => void) {
    this.type = (changes) => {
      for (const change of changes) this.put(change);
      heard(changes);
    };
    return () => {
      this.type = () => {};
    };
  }
}

function Rich({ editor }: { editor: PieceEditor }) {
  useBoundEditor("/notes", editor);
  return null;
}

test("a rich editor is bound by its changes, and is given those of others alone", async () => {
  const editor = new Pieces();
  await act(async () =>
    root.render(
      <Inside options={options}>
        <Rich editor={editor} />
      </Inside>,
    ),
  );
  const socket = last();
  await act(async () => {
    socket.open();
    socket.receive(welcome(3, { state: { ...state, notes: "🍎 ripe" } }));
  });
  expect(editor.text).toBe("🍎 ripe");
  await act(async () =>
    editor.type([
      { index: 3, delete: 4, insert: "dry" },
      { index: 0, delete: 2, insert: "🍏🍐" },
    ]),
  );
  const proposed = socket.sent.flatMap((frame) => (frame.type === "propose" ? frame.edits : []));
  expect(proposed).toEqual([
    { at: "/notes", op: "splice", index: 2, delete: 4, insert: "dry" },
    { at: "/notes", op: "splice", index: 0, delete: 1, insert: "🍏🍐" },
  ]);
  expect([editor.text, editor.taken]).toEqual(["🍏🍐 dry", []]);
  const insert = { at: "/notes", op: "splice", index: 6, delete: 0, insert: " fruit" } as const;
  const theirs = { seq: 4, by: "bram", client: "x", n: 1, at: 0, effects: [insert] };
  await act(async () => socket.receive({ type: "settled", updates: [theirs] }));
  expect(editor.text).toBe("🍏🍐 dry fruit");
  expect(editor.taken).toEqual([{ index: 8, delete: 0, insert: " fruit" }]);
  // What the session does not take is taken back.
  await act(async () => editor.type([{ index: 0, delete: 0, insert: "x".repeat(70_000) }]));
  expect([editor.text, editor.taken.at(-1)?.delete]).toEqual(["🍏🍐 dry fruit", 70_000]);
  const taken = editor.taken.length;
  await act(async () => root.render(null));
  await act(async () => editor.type([{ index: 0, delete: 0, insert: "x" }]));
  await act(async () => socket.receive({ type: "settled", updates: [{ ...theirs, seq: 5 }] }));
  expect(socket.sent.filter((frame) => frame.type === "propose").length).toBe(2);
  expect(editor.taken.length).toBe(taken);
});

const seen: unknown[] = [];
let tell: ReturnType<typeof useTell> | undefined;

function Carets() {
  tell = useTell();
  seen.push(useFacts<{ index: number }>("caret").map(({ who, value }) => [who, value.index]));
  return null;
}

test("what others tell is drawn when it changes, a caret moves with its text, and telling is sent", async () => {
  await act(async () =>
    root.render(
      <Inside options={options}>
        <Carets />
      </Inside>,
    ),
  );
  await enter();
  const told = { bram: { tab: { caret: { at: "/notes", index: 4 } } } };
  await act(async () => last().receive({ type: "presence", of: told }));
  expect(seen.at(-1)).toEqual([["bram", 4]]);
  const draws = seen.length;
  await act(async () =>
    last().receive({ type: "presence", of: { wil: { tab: { typing: true } } } }),
  );
  expect(seen.length).toBe(draws);
  const insert = { at: "/notes", op: "splice", index: 0, delete: 0, insert: "so " } as const;
  const theirs = { seq: 4, by: "bram", client: "x", n: 1, at: 0, effects: [insert] };
  await act(async () => last().receive({ type: "settled", updates: [theirs] }));
  expect(seen.at(-1)).toEqual([["bram", 7]]);
  await act(async () => last().receive({ type: "presence", of: { bram: { tab: null } } }));
  expect(seen.at(-1)).toEqual([]);
  await act(async () => {
    tell?.({ typing: true });
    await new Promise((done) => setTimeout(done, 50));
  });
  expect(last().sent.at(-1)).toMatchObject({ type: "presence", set: { typing: true } });
});

type Sheet = {
  fields: {
    heads: Counter;
    pressings: MapOf<{ variety: Register<"plum" | "pear">; litres: Counter }>;
  };
  role: "taster";
  presence: object;
  cues: object;
  edits: Edit;
};

/** Compiled and not run. */
function Compiled({ id }: { id: string }) {
  const { useAt, usePropose, useWhole } = hooksOf<Sheet>();
  const heads: number | undefined = useAt("/heads");
  const variety: "plum" | "pear" | null | undefined = useAt(`/pressings/${id}/variety`);
  const litres: number | undefined = useAt(`/pressings/${id}`)?.litres;
  // @ts-expect-error a misspelt path
  useAt("/hats");
  // @ts-expect-error a misspelt field of a record
  useAt(`/pressings/${id}/varity`);
  // @ts-expect-error a value of another type
  const words: string | undefined = useAt("/heads");
  usePropose()([{ at: "/heads", op: "add", by: 1 }]);
  return [heads, variety, litres, words, useWhole()?.pressings.p1?.variety].join();
}

test("hooks know a charter's types when they are compiled, and are the same when they run", () => {
  expect(hooksOf<Sheet>().useAt).toBe(useAt);
  expect(Compiled).toBeTypeOf("function");
});

function Table() {
  const [who, seat] = useSeats("/seats");
  const [ballot, vote, own] = useBallot("/blend");
  return (
    <b>
      {who?.by.east ?? "free"} {ballot?.cast ?? "-"} {String(own ?? "nothing")}{" "}
      {seat === undefined || vote === undefined ? "waits" : "may"}
    </b>
  );
}

test("seats and ballots are drawn with what one may do, and again when one's own changes", async () => {
  const seats = { away: {}, by: { east: null }, gathering: false, offers: {} };
  const blend = { cast: 0, earlier: [], open: false, question: null, results: null, round: 1 };
  await act(async () =>
    root.render(
      <Inside options={options}>
        <Table />
      </Inside>,
    ),
  );
  expect(page.textContent).toBe("free - nothing may");
  await act(async () => {
    last().open();
    last().receive(
      welcome(3, { state: { seats, blend: { ...blend, voters: {} }, "blend-ballots": {} } }),
    );
  });
  expect(page.textContent).toBe("free 0 nothing may");
  await act(async () => {
    last().receive({
      type: "settled",
      updates: [
        {
          seq: 4,
          by: "x",
          client: "y",
          n: 1,
          at: 0,
          effects: [{ at: "/blend-ballots", op: "put", id: "oda", value: { choice: ["dry"] } }],
        },
      ],
    });
  });
  expect(page.textContent).toBe("free 0 dry may");
});
