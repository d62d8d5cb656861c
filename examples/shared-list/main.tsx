import { connect } from "@rendel/client";
import { claim } from "@rendel/client/keeping";
import { Inside, useAt, useCount, useProblem, useStanding, useUnanswered } from "@rendel/react";
import { type FormEvent, StrictMode, useState } from "react";
import { createRoot } from "react-dom/client";
import type { SharedList } from "./types.ts";

const server = new URLSearchParams(location.search).get("server") ?? "http://127.0.0.1:7460";
// What is pending, and the list as it was last, outlive a reload.
const session = connect<SharedList>({
  server,
  session: "shared-list",
  claim: await claim("shared-list"),
  keepState: true,
});

type Item = { what: string | null; done: boolean | null; by: string | null };

function List() {
  const items = useAt<{ [id: string]: Item }>("/items");
  if (items === undefined) return <p className="waiting">Waiting for the list …</p>;
  const rows = Object.keys(items).sort();
  if (rows.length === 0) return <p className="waiting">Nothing yet. What do we need?</p>;
  return (
    <ul>
      {rows.map((id) => (
        <Row key={id} id={id} />
      ))}
    </ul>
  );
}

function Row({ id }: { id: string }) {
  const item = useAt<Item>(`/items/${id}`);
  const record = session.map("/items").record(id);
  if (item === undefined) return null;
  return (
    <li>
      <label>
        <input
          type="checkbox"
          checked={item.done ?? false}
          onChange={(event) => record.field("done").set(event.target.checked)}
        />
        <span className={item.done ? "done" : ""}>{item.what}</span>
      </label>
      <button type="button" aria-label={`Take away ${item.what}`} onClick={() => record.drop()}>
        ×
      </button>
    </li>
  );
}

function Add() {
  const [what, setWhat] = useState("");
  const add = (event: FormEvent) => {
    event.preventDefault();
    if (what.trim() === "") return;
    session.map("/items").put({ what: what.trim() });
    setWhat("");
  };
  return (
    <form onSubmit={add}>
      <input
        aria-label="What to bring"
        placeholder="A ladder, two crates …"
        maxLength={80}
        value={what}
        onChange={(event) => setWhat(event.target.value)}
      />
      <button type="submit">Add</button>
    </form>
  );
}

function Standing() {
  const [standing, unanswered] = [useStanding(), useUnanswered()];
  const [problem, dismiss] = useProblem();
  const count = useCount();
  const kept = unanswered === 0 ? "" : ` · ${unanswered} to be sent`;
  return (
    <footer>
      <span data-standing={standing}>
        {standing === "present" ? `${count} here` : standing}
        {kept}
      </span>
      {problem !== undefined && (
        <button type="button" onClick={dismiss}>
          {problem.detail}
        </button>
      )}
    </footer>
  );
}

createRoot(document.getElementById("page") as HTMLElement).render(
  <StrictMode>
    <Inside session={session}>
      <h1>What to bring</h1>
      <Add />
      <List />
      <Standing />
    </Inside>
  </StrictMode>,
);
