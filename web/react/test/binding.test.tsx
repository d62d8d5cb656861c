// @vitest-environment happy-dom
import type { Session } from "@rendel/client";
import { act } from "react";
import { createRoot } from "react-dom/client";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { FakeSocket, last, welcome } from "../../client/test/fakes.ts";
import {
  Inside,
  useAt,
  useCount,
  useHold,
  useProblem,
  useSession,
  useStanding,
} from "../src/index.tsx";
import { useBoundText } from "../src/text.tsx";

vi.stubGlobal("IS_REACT_ACT_ENVIRONMENT", true);
const options = { server: "http://gate.example", session: "gate", token: "t" };
const splice = (index: number, gone: number, insert: string) =>
  ({ at: "/notes", op: "splice", index, delete: gone, insert }) as const;
let session: Session | undefined;
let root: ReturnType<typeof createRoot>;
let seq = 3;

beforeEach(() => {
  FakeSocket.all = [];
  vi.stubGlobal("WebSocket", FakeSocket);
  document.body.innerHTML = "<main></main>";
  root = createRoot(document.querySelector("main") as HTMLElement);
  seq = 3;
});
afterEach(async () => act(async () => root.unmount()));

function Notes() {
  session = useSession();
  return <textarea ref={useBoundText("/notes")} />;
}

function Company() {
  session = useSession();
  const [problem, forget] = useProblem();
  return (
    <button type="button" onClick={forget}>
      {useStanding()} {useCount()} {useHold("/notes")?.by ?? "nobody"} {problem?.kind ?? "fine"}
    </button>
  );
}

function Deep() {
  return <i>{useAt<string>("/steps/a~1b/what")}</i>;
}

async function begin(what: React.ReactNode, more = {}) {
  await act(async () => root.render(<Inside options={options}>{what}</Inside>));
  await act(async () => {
    last().open();
    last().receive(welcome(3, { state: { notes: "ripe plum" }, ...more }));
  });
}

async function others(...effects: ReturnType<typeof splice>[]) {
  seq += 1;
  const update = { seq, by: "bram", client: "x", n: 1, at: 0, effects };
  await act(async () => last().receive({ type: "settled", updates: [update] }));
}

const field = () => document.querySelector("textarea") as HTMLTextAreaElement;
const proposed = () =>
  last().sent.flatMap((frame) => (frame.type === "propose" ? frame.edits : []));

async function select(start: number, end: number) {
  await act(async () => {
    field().focus();
    field().setSelectionRange(start, end);
    document.dispatchEvent(new Event("selectionchange"));
  });
}

test("a caret stays behind what it stood behind, a selection around what it held", async () => {
  await begin(<Notes />);
  await select(4, 4);
  await others(splice(4, 0, "!"));
  expect([field().value, field().selectionStart]).toEqual(["ripe! plum", 4]);
  await select(6, 10);
  await others(splice(6, 0, "<"), splice(11, 0, ">"));
  expect(field().value.slice(field().selectionStart, field().selectionEnd)).toBe("plum");
});

test("a field that is not looked at keeps what is selected elsewhere", async () => {
  await begin(<Notes />);
  const moved = vi.spyOn(field(), "setSelectionRange");
  await others(splice(0, 0, "so "));
  expect([field().value, moved.mock.calls.length]).toEqual(["so ripe plum", 0]);
});

test("of a run of the same letter the one at the caret is meant", async () => {
  await begin(<Notes />);
  await act(async () => {
    field().focus();
    field().value = "rippe plum";
    field().setSelectionRange(3, 3);
    field().dispatchEvent(new Event("input"));
  });
  expect(proposed()).toEqual([splice(2, 0, "p")]);
});

test("what is composed is proposed once it is done", async () => {
  await begin(<Notes />);
  const type = (value: string, name: string) =>
    act(async () => {
      field().value = value;
      field().dispatchEvent(new Event(name));
    });
  await type("ripe plum", "compositionstart");
  await type("ripe plumk", "input");
  await type("ripe plumka", "input");
  expect(proposed()).toEqual([]);
  await type("ripe plum か", "compositionend");
  expect(proposed()).toEqual([splice(9, 0, " か")]);
});

test("a binding that has ended, or had not begun, leaves nothing behind", async () => {
  await begin(<Notes />);
  const bound = field();
  const replica = (session as Session).parts.replica;
  const [taken, released] = [vi.spyOn(replica, "anchor"), vi.spyOn(replica, "release")];
  await select(2, 2);
  await act(async () => root.render(<Inside options={options}>nothing</Inside>));
  expect(released.mock.calls.length).toBe(taken.mock.calls.length + 2);
  bound.value = "other";
  await act(async () => bound.dispatchEvent(new Event("input")));
  await others(splice(0, 0, "so "));
  expect([bound.value, proposed()]).toEqual(["other", []]);
  // Gone before the state was known.
  await act(async () => root.unmount());
  root = createRoot(document.querySelector("main") as HTMLElement);
  await act(async () =>
    root.render(
      <Inside options={options}>
        <Notes />
      </Inside>,
    ),
  );
  const early = field();
  await act(async () => root.render(<Inside options={options}>nothing</Inside>));
  await act(async () => {
    last().open();
    last().receive(welcome(3, { state: { notes: "ripe plum" } }));
  });
  expect(early.value).toBe("");
});

test("who holds what, how many are here and what went wrong is drawn, and heard no more after that", async () => {
  await begin(<Company />, { count: 40, holds: [{ at: "/title", by: "wil", until: 9e15 }] });
  const words = () => document.querySelector("button")?.textContent;
  expect(words()).toBe("present 40 nobody fine");
  const hold = { at: "/notes", by: "bram", until: 9e15 };
  const problem = { type: "urn:rendel:problem:crowded", title: "", status: 503, detail: "" };
  await act(async () => last().receive({ type: "holds", taken: [hold] }));
  await act(async () => last().receive({ type: "notice", problem }));
  expect(words()).toBe("present 40 bram crowded");
  await act(async () => document.querySelector("button")?.click());
  expect(words()).toBe("present 40 bram fine");
  const ends: ReturnType<typeof vi.fn>[] = [];
  const known = session as Session;
  const listen = known.listen.bind(known);
  vi.spyOn(known, "listen").mockImplementation((...given) => {
    const end = vi.fn(listen(...given));
    ends.push(end);
    return end;
  });
  await act(async () =>
    root.render(
      <Inside session={known}>
        <Company key="anew" />
      </Inside>,
    ),
  );
  const open = ends.length;
  await act(async () => root.render(<Inside session={known}>nothing</Inside>));
  expect(open).toBeGreaterThan(3);
  expect(ends.every((end) => end.mock.calls.length === 1)).toBe(true);
});

test("a first state is read by ids of elements and by escaped names", async () => {
  const first = { steps: [{ id: "a/b", value: { what: "wash" } }] };
  await act(async () =>
    root.render(
      <Inside options={options} first={first}>
        <Deep />
      </Inside>,
    ),
  );
  expect(document.querySelector("i")?.textContent).toBe("wash");
});
