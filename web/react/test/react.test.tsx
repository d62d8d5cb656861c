// @vitest-environment happy-dom
import type { Session } from "@rendel/client";
import { act, StrictMode, Suspense } from "react";
import { createRoot } from "react-dom/client";
import { renderToString } from "react-dom/server";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { FakeSocket, last, welcome } from "../../client/test/fakes.ts";
import {
  Inside,
  useAt,
  useKnown,
  usePeople,
  usePropose,
  useStanding,
  useUnanswered,
} from "../src/index.tsx";
import { useBoundText } from "../src/text.tsx";

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
