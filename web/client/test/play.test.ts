import { expect, test } from "vitest";
import { connect, type Json } from "../src/index.ts";
import type { Effect, Fields, Propose, Welcome } from "../src/parts.ts";
import { ballotAt, chanceAt, seatsAt, turnAt } from "../src/play.ts";
import { fakeSockets, last, welcome } from "./fakes.ts";

fakeSockets();

const state: Json = {
  seats: { away: {}, by: { east: "oda", west: null }, gathering: true, offers: {} },
  turn: { moves: 0, number: 1, reversed: false, seat: "east" },
  chance: { draws: 0, last: null, next: "ab", opened: null },
  blend: { cast: 1, earlier: [], open: false, question: null, results: null, round: 1, voters: {} },
  "blend-ballots": {},
  whom: { cast: 0, earlier: [], open: false, question: null, results: null, round: 1, voters: {} },
};
const fields: Fields = {
  blend: { kind: "ballot" },
  whom: { kind: "ballot", secret: true },
};

function present(id = "oda") {
  const session = connect({ server: "http://gate.example", session: "gate", token: "t" });
  last().open();
  const { client } = session.parts.replica;
  const more: Partial<Welcome> = {
    you: { id, name: "Oda", role: "player", hue: 1, client },
    state,
    fields,
  };
  last().receive(welcome(3, more));
  return session;
}

const proposed = () => last().sent.filter((frame): frame is Propose => frame.type === "propose");
const asked = () => proposed().flatMap(({ edits }) => edits);

test("handles propose what the protocol calls it, and leave out what is not given", () => {
  const session = present();
  const seats = seatsAt(session, "/seats");
  seats.sit();
  seats.sit("west");
  seats.stand();
  seats.offer("bram");
  seats.offer();
  seats.accept("west");
  seats.give("west", "bram");
  turnAt(session, "/turn").advance();
  turnAt(session, "/turn").advance("west");
  turnAt(session, "/turn").reverse();
  const chance = chanceAt(session, "/chance");
  chance.roll(6);
  chance.shuffle("/bags", "prize");
  chance.open(1);
  const blend = ballotAt(session, "/blend");
  blend.cast(["dry"]);
  blend.cast(12.5);
  blend.cast("unsure");
  blend.withdraw();
  blend.unseal();
  blend.restart("And next year?");
  expect(asked()).toEqual([
    { at: "/seats", op: "sit" },
    { at: "/seats", op: "sit", seat: "west" },
    { at: "/seats", op: "stand" },
    { at: "/seats", op: "offer", to: "bram" },
    { at: "/seats", op: "offer" },
    { at: "/seats", op: "accept", seat: "west" },
    { at: "/seats", op: "give", seat: "west", to: "bram" },
    { at: "/turn", op: "advance", turn: 1 },
    { at: "/turn", op: "advance", to: "west", turn: 1 },
    { at: "/turn", op: "reverse" },
    { at: "/chance", op: "roll", sides: 6, count: 1 },
    { at: "/chance", op: "shuffle", of: "/bags", field: "prize" },
    { at: "/chance", op: "open", draw: 1 },
    { at: "/blend", op: "cast", choices: ["dry"], round: 1 },
    { at: "/blend", op: "cast", value: 12.5, round: 1 },
    { at: "/blend", op: "cast", value: "unsure", round: 1 },
    { at: "/blend", op: "withdraw", round: 1 },
    { at: "/blend", op: "unseal", round: 1 },
    { at: "/blend", op: "restart", question: "And next year?", round: 1 },
  ]);
  // Nothing of it is foreseen: what a rule makes of it the service says.
  expect(session.state).toEqual(state);
});

test("a handle reads what is one's own, whatever one is called", () => {
  expect(seatsAt(present("bram"), "/seats").own).toBe(undefined);
  expect(seatsAt(present(), "/seats").own).toBe("east");
  const session = present("oda/2~b");
  const blend = ballotAt(session, "/blend");
  expect(blend.own).toBe(undefined);
  last().receive({
    type: "settled",
    updates: [
      {
        seq: 4,
        by: "oda/2~b",
        client: session.parts.replica.client,
        n: 1,
        at: 0,
        effects: [
          { at: "/blend-ballots", op: "put", id: "oda/2~b", value: { choice: ["dry"] } },
          { at: "/blend/cast", op: "set", value: 2 },
          { at: "/blend/voters/oda~12~0b", op: "set", value: true },
        ],
      },
    ],
  });
  expect(blend.own).toEqual(["dry"]);
  expect(blend.value).toMatchObject({ cast: 2, voters: { "oda/2~b": true } });
});

test("what one has cast shows while it waits, and of a secret ballot after that too", () => {
  const session = present();
  const blend = ballotAt(session, "/blend");
  const answer = (n: number, updates: Effect[]) =>
    last().receive({
      type: "settled",
      updates: [
        {
          seq: session.seq + 1,
          by: n > 0 ? "oda" : "bram",
          client: n > 0 ? session.parts.replica.client : "x",
          n,
          at: 0,
          effects: updates,
        },
      ],
    });
  const refuse = (n: number) =>
    last().receive({
      type: "refused",
      n,
      problem: { type: "urn:rendel:problem:stale", title: "", status: 409, detail: "" },
    });
  blend.cast(["dry"]);
  expect(blend.own).toEqual(["dry"]);
  refuse(1);
  expect(blend.own).toBe(undefined);

  const whom = ballotAt(session, "/whom");
  whom.cast(["bram"]);
  answer(2, []);
  expect(whom.own).toEqual(["bram"]);
  whom.cast(["wren"]);
  expect(whom.own).toEqual(["wren"]);
  refuse(3);
  expect(whom.own).toEqual(["bram"]);
  whom.withdraw();
  answer(4, []);
  expect(whom.own).toBe(undefined);
  whom.cast(["oda"]);
  answer(5, []);
  answer(0, [{ at: "/whom/round", op: "set", value: 2 }]);
  expect(whom.own).toBe(undefined);
});
