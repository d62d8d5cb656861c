import {
  type Anchor,
  type Change,
  Connection,
  type Edit,
  type Json,
  type Problem,
  type Settled,
  type Standing,
  uuid7,
} from "@rendel/client";
import { useEffect, useReducer, useRef, useState } from "react";
import { SERVER } from "../api.ts";

/** What became of one's own proposal. */
export type Answer = { n: number; ms: number } & ({ update: Settled } | { seq: number } | { problem: Problem });

/** One connection to a session, as the page shows it. */
export type Seat = {
  standing: Standing;
  why: string | undefined;
  latency: number | undefined;
  seq: number;
  view: Json | undefined;
  confirmed: Json | undefined;
  unsent: number;
  you: Connection["replica"]["you"];
  roster: Connection["replica"]["roster"];
  answers: Answer[];
  updates: Settled[];
  digest: () => string | undefined;
  /** When this replica last differed from the service's state and was repaired. */
  repaired: { seq: number; reason: string } | undefined;
  propose: (edits: Edit[]) => number | undefined;
  anchor: (at: string, index: number, isLeft: boolean) => Anchor | undefined;
  release: (anchor: Anchor) => void;
  setOffline: (isOffline: boolean) => void;
};

const KEPT = 200;

/** Enters a session with a token and stays while the page shows it. */
export function useParticipant(session: string, token: string | undefined): Seat {
  const [, draw] = useReducer((count: number) => count + 1, 0);
  const [client] = useState(() => uuid7());
  const connection = useRef<Connection>(undefined);
  const updates = useRef<Settled[]>([]);
  const answers = useRef<Answer[]>([]);
  const sent = useRef(new Map<number, number>());
  /** The number under which a proposal was made, by the one under which it was sent anew. */
  const first = useRef(new Map<number, number>());
  const repaired = useRef<Seat["repaired"]>(undefined);

  useEffect(() => {
    if (token === undefined) return;
    const answer = (now: number, became: { update: Settled } | { seq: number } | { problem: Problem }) => {
      const n = first.current.get(now) ?? now;
      const ms = performance.now() - (sent.current.get(n) ?? performance.now());
      sent.current.delete(n);
      first.current.delete(now);
      answers.current = [{ n, ms, ...became }, ...answers.current].slice(0, KEPT);
    };
    const changed = (change: Change) => {
      if (change.kind === "settled") {
        updates.current = [change.update, ...updates.current].slice(0, KEPT);
        const { update } = change;
        if (update.client === opened.replica.client) answer(update.n, { update });
      }
      if (change.kind === "made-anew") {
        first.current.set(change.n, first.current.get(change.was) ?? change.was);
        first.current.delete(change.was);
      }
      if (change.kind === "repaired") repaired.current = change;
      if (change.kind === "settled-away") answer(change.n, { seq: change.seq });
      if (change.kind === "refused") answer(change.n, { problem: change.problem });
      draw();
    };
    const opened = new Connection({ server: SERVER, session, token, client, events: { changed, standing: draw } });
    connection.current = opened;
    opened.start();
    return () => {
      opened.leave();
      connection.current = undefined;
    };
  }, [session, token, client]);

  const replica = connection.current?.replica;
  return {
    standing: connection.current?.standing ?? "waiting",
    why: connection.current?.why,
    latency: connection.current?.latency,
    seq: replica?.seq ?? 0,
    view: replica?.view,
    confirmed: replica?.confirmed,
    unsent: replica?.pending.length ?? 0,
    you: replica?.you,
    roster: replica?.roster ?? [],
    answers: answers.current,
    updates: updates.current,
    digest: () => replica?.digest(),
    repaired: repaired.current,
    anchor: (at, index, isLeft) => connection.current?.replica.anchor(at, index, isLeft),
    release: (anchor) => connection.current?.replica.release(anchor),
    propose: (edits) => {
      const n = connection.current?.propose(edits);
      if (n !== undefined) sent.current.set(n, performance.now());
      return n;
    },
    setOffline: (isOffline) => (isOffline ? connection.current?.goOffline() : connection.current?.goOnline()),
  };
}
