import { connect } from "@rendel/client";
import { bind, fieldEditor } from "@rendel/client/text";
import type { TastingNotes } from "./types.ts";

const server = new URLSearchParams(location.search).get("server") ?? "http://127.0.0.1:7460";
const session = connect<TastingNotes>({ server, session: "tasting-notes" });
const element = <E extends HTMLElement>(id: string) => document.getElementById(id) as E;

const tell = (word: string) => {
  element("standing").textContent = word;
};
const stand = () => {
  tell(session.standing === "present" ? `${session.count} here` : session.standing);
};
session.listen("standing", stand);
session.listen("people", stand);
session.listen("problem", (problem) => tell(problem.detail));
await session.ready;

for (const taste of ["sweet", "dry"] as const) {
  const votes = session.counter(`/${taste}`);
  const button = element<HTMLButtonElement>(taste);
  const draw = () => {
    button.textContent = `${taste === "sweet" ? "Sweet" : "Dry"} ${votes.value}`;
  };
  votes.listen(draw);
  draw();
  button.onclick = () => votes.add();
}
bind(session, session.text("/notes"), fieldEditor(element<HTMLTextAreaElement>("notes")));
