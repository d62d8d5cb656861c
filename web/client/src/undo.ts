/** Undo and redo of one's own. Load it where a page has them. */

import type { Connection } from "./connection.ts";
import type { Undoable } from "./frame.ts";
import type { Proposal } from "./session.ts";
import { uuid7 } from "./uuid.ts";

export type { Look, Undoable } from "./frame.ts";

/** What a session gives to undo in it. */
type Around<P> = {
  readonly parts: Connection;
  propose: (edits: readonly never[]) => P;
};

/**
 * Undo and redo of one's own. Each gives the proposal, or `undefined` where what it takes back had not
 * been sent yet and is cancelled.
 */
export type Undoing<P = Proposal> = {
  /** What can be undone and redone now, and what would be left out. */
  readonly undoable: Undoable;
  /** Takes back what you did last, within a path where one is given. */
  undo: (within?: string) => P | undefined;
  /** Does again what you undid last. */
  redo: (within?: string) => P | undefined;
  /** Hears of each change of `undoable` until what is given back is called. */
  listen: (heard: () => void) => () => void;
};

const known = new WeakMap<Connection, Undoing<unknown>>();

/** Follows what you can undo in a session. All who ask for that of one session share it. */
export function undoing<P>(session: Around<P>): Undoing<P> {
  const found = known.get(session.parts);
  if (found !== undefined) return found as Undoing<P>;
  const connection = session.parts;
  const ears = new Set<() => void>();
  let undoable: Undoable = NOTHING;
  const follow = () => connection.send({ type: "follow-undo" });
  const set = (now: Undoable) => {
    undoable = now;
    for (const ear of [...ears]) ear();
  };
  const before = connection.heard;
  connection.heard = (frame) => {
    before?.(frame);
    if (frame.type === "undoable") set({ undo: frame.undo, redo: frame.redo });
    // It is told anew, where there is anything.
    if (frame.type === "welcome") {
      set(NOTHING);
      queueMicrotask(follow);
    }
  };
  if (connection.standing === "present") follow();
  const takeBack = (op: "undo" | "redo", within: string): P | undefined => {
    if (op === "undo" && cancelled(connection)) return undefined;
    const last = connection.replica.asked.at(-1);
    // While something of one's own is on its way, what comes first is that.
    const of = last === undefined ? undoable[op]?.of : last.more.gesture;
    const named = of === undefined || within !== "" ? {} : { of };
    return session.propose([{ at: within, op, skip: true, ...named }] as never[]);
  };
  const it: Undoing<P> = {
    get undoable() {
      return undoable;
    },
    undo: (within = "") => takeBack("undo", within),
    redo: (within = "") => takeBack("redo", within),
    listen: (heard) => {
      ears.add(heard);
      return () => ears.delete(heard);
    },
  };
  known.set(connection, it);
  return it;
}

const NOTHING: Undoable = { undo: null, redo: null };

/** Takes the last gesture out where nothing of it was sent; gives whether there was one. */
function cancelled(connection: Connection): boolean {
  const { replica, standing } = connection;
  const last = replica.asked.at(-1);
  if (last === undefined || standing === "present") return false;
  const { gesture } = last.more;
  const all = [...replica.asked].reverse();
  const end = all.findIndex(({ more }) => gesture === undefined || more.gesture !== gesture);
  const step = gesture === undefined ? [last] : all.slice(0, end < 0 ? all.length : end);
  if (step.some(({ sent, frame }) => sent !== undefined || frame === undefined)) return false;
  for (const { frame } of step)
    if (frame !== undefined)
      connection.receive({ type: "refused", n: frame.n, problem: CANCELLED });
  return true;
}

const CANCELLED = {
  type: "urn:rendel:problem:nothing-to-undo",
  title: "Nothing to take back",
  status: 409,
  detail: "It was undone before it was sent.",
};

/**
 * Does something as one gesture: all that is proposed within it is one step of undo. Gestures within
 * it are part of it.
 */
export function gesture<T>(session: { readonly parts: Connection }, name: string, act: () => T): T {
  const done = beginGesture(session, name);
  let result: T;
  try {
    result = act();
  } catch (error) {
    done();
    throw error;
  }
  if (result instanceof Promise) return result.finally(done) as T;
  done();
  return result;
}

/**
 * Begins a gesture that lasts until what is given back is called, such as a drag. Its name is told
 * in the journal; a number is added, so that no two are one.
 */
export function beginGesture(session: { readonly parts: Connection }, name: string): () => void {
  const { parts } = session;
  if (parts.more?.gesture !== undefined) return () => {};
  const own = `${name} ${uuid7().slice(-6)}`;
  parts.more = { gesture: own };
  return () => {
    if (parts.more?.gesture === own) parts.more = {};
  };
}
