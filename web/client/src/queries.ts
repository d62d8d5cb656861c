/** Queries: rows that are asked for once and then kept up to date. Load it where a page has them. */

import type { Connection } from "./connection.ts";
import {
  type Ask,
  type FromService,
  isTooFast,
  type Json,
  type Row,
  type RowStep,
  type Rows,
} from "./frame.ts";
import { type Problem, problemOf } from "./problem.ts";

export type { Ask, Row, RowStep, Rows } from "./frame.ts";

/** Rows that are kept up to date. */
export type Following<V = Json> = {
  /** The rows in order, the same array until they change; `undefined` before the first came. */
  readonly rows: readonly Row<V>[] | undefined;
  /** The place of the last row where the result is full: ask for what is behind it with `after`. */
  readonly end: Json[] | undefined;
  /** Why there are none, where the query cannot be followed. */
  readonly problem: Problem | undefined;
  /** Hears of each change until what is given back is called. */
  listen: (heard: (steps: readonly RowStep<V>[] | undefined) => void) => () => void;
  /** Follows it no more. */
  leave: () => void;
};

type Followed = { ask: () => void; hear: (frame: FromService) => void };

/** What a connection follows, by its numbers. */
const followed = new WeakMap<Connection, Map<number, Followed>>();
let last = 0;

function queriesOf(connection: Connection): Map<number, Followed> {
  const known = followed.get(connection);
  if (known !== undefined) return known;
  const all = new Map<number, Followed>();
  followed.set(connection, all);
  const before = connection.heard;
  connection.heard = (frame) => {
    before?.(frame);
    if ("query" in frame) all.get(frame.query)?.hear(frame);
    if (frame.type === "welcome")
      queueMicrotask(() => {
        for (const { ask } of all.values()) ask();
      });
  };
  return all;
}

/**
 * Follows a query: its rows now, and as they change, also after a return. What is heard with each
 * change are the steps from the rows before, or nothing where all are new.
 */
export function follow<V = Json>(session: { readonly parts: Connection }, ask: Ask): Following<V> {
  const connection = session.parts;
  const all = queriesOf(connection);
  const ears = new Set<(steps: readonly RowStep<V>[] | undefined) => void>();
  last += 1;
  const query = last;
  let now: Rows<V> | undefined;
  let mark: string | undefined;
  let problem: Problem | undefined;
  const tell = (steps?: readonly RowStep<V>[]) => {
    for (const ear of [...ears]) ear(steps);
  };
  /** Asks, with the rows that are here: only what has changed since comes then. */
  const request = () => {
    const had = now && mark !== undefined && { mark, seq: now.seq };
    connection.send({ type: "follow-query", query, ask, ...(had && { had }) });
  };
  const hear = (frame: FromService) => {
    if (frame.type === "rows") {
      mark = frame.mark;
      now = frame as Rows as Rows<V>;
      tell();
    }
    if (frame.type === "row-steps" && !(now && frame.seq <= now.seq)) {
      const steps = frame.steps as RowStep<V>[];
      const fits = now && (frame.since ?? now.seq) === now.seq;
      const rows = fits && now && stepped(now.rows, steps);
      // It fits nothing that is here: what is right is asked for anew.
      if (!rows) {
        mark = undefined;
        return request();
      }
      now = { seq: frame.seq, rows, ...(frame.end && { end: frame.end }) };
      if (steps.length > 0) tell(steps);
    }
    if (frame.type === "query-refused" && isTooFast(frame.problem)) {
      const again = () => all.has(query) && connection.standing === "present" && request();
      setTimeout(again, frame.problem.wait_ms ?? 1_000);
    } else if (frame.type === "query-refused") {
      problem = problemOf(frame.problem);
      now = undefined;
      all.delete(query);
      tell();
    }
  };
  all.set(query, { ask: request, hear });
  if (connection.standing === "present") request();
  return {
    get rows() {
      return now?.rows;
    },
    get end() {
      return now?.end;
    },
    get problem() {
      return problem;
    },
    listen: (heard) => {
      ears.add(heard);
      return () => ears.delete(heard);
    },
    leave: () => {
      ears.clear();
      if (all.delete(query) && connection.standing === "present")
        connection.send({ type: "leave-query", query });
    },
  };
}

/** The rows after some steps; `undefined` where these belong to others. */
export function stepped<V>(
  rows: readonly Row<V>[],
  steps: readonly RowStep<V>[],
): Row<V>[] | undefined {
  const now = [...rows];
  for (const step of steps) {
    const row = now[step.at];
    if (step.step === "in") {
      if (step.at > now.length) return undefined;
      now.splice(step.at, 0, step.row);
    } else if (row === undefined) {
      return undefined;
    } else if (step.step === "change") {
      now[step.at] = { path: row.path, value: step.value };
    } else {
      now.splice(step.at, 1);
      if (step.step === "move") now.splice(step.to, 0, row);
    }
  }
  return now;
}

/**
 * Enters without the state, for queries only: no state and no updates come, however large the session
 * is. To be called right after `connect`.
 */
export function rowsOnly<S extends { readonly parts: Connection }>(session: S): S {
  const { replica } = session.parts;
  const enter = replica.enter.bind(replica);
  replica.enter = (...given) => ({ ...enter(...given), stateless: true });
  return session;
}
