import {
  type Anchor,
  applyEffect,
  type Change,
  Connection,
  type Cue,
  claim,
  digest,
  type Edit,
  type Facts,
  type Json,
  type Problem,
  type Settled,
  type Standing,
  valueAt,
} from "@rendel/client/parts";
import { serviceTime } from "@rendel/client/play";
import { type Undoable, undoing } from "@rendel/client/undo";
import { useEffect, useReducer, useRef } from "react";
import { SERVER } from "../api.ts";

/** What became of one's own proposal. */
export type Answer = { n: number; ms: number } & (
  | { update: Settled }
  | { seq: number }
  | { problem: Problem }
);

/** What a return brought. */
export type Return = { missed: number; unsent: ReadonlySet<number> };

/** One connection to a session, as the page shows it. */
export type Seat = {
  standing: Standing;
  why: string | undefined;
  latency: number | undefined;
  /** The service's time, in milliseconds since 1970 UTC. */
  now: () => number;
  seq: number;
  view: Json | undefined;
  confirmed: Json | undefined;
  /** The paths of what only some of its role see. */
  own: ReadonlySet<string>;
  unsent: number;
  you: Connection["replica"]["you"];
  /** `open`, `frozen` or `ended`. */
  session: string | undefined;
  roster: Connection["replica"]["roster"];
  /** What participants tell of themselves. */
  presence: Connection["replica"]["presence"];
  /** What is held, by path. */
  holds: Connection["replica"]["holds"];
  /** Own proposals that wait for an outside check. */
  checking: number;
  /** The last cue, and when it came. */
  cue: (Cue & { at: number }) | undefined;
  say: (facts: Facts) => void;
  hold: (at: string) => Promise<Problem | undefined>;
  letGo: (at: string) => void;
  call: (cue: string) => Promise<Problem | undefined>;
  shownIndex: (at: string, index: number) => number;
  answers: Answer[];
  updates: Settled[];
  digest: () => string | undefined;
  /** When this replica last differed from the service's state and was repaired. */
  repaired: { seq: number; reason: string } | undefined;
  /** The last return after an absence. */
  returned: Return | undefined;
  propose: (edits: Edit[], more?: { gesture?: string }) => number | undefined;
  anchor: (at: string, index: number, isLeft: boolean) => Anchor | undefined;
  release: (anchor: Anchor) => void;
  /** What you can undo and redo now. */
  undoable: Undoable;
  /** The number of the proposal that undoes; none where what was not sent is cancelled. */
  undo: () => number | undefined;
  redo: () => number | undefined;
  setOffline: (isOffline: boolean) => void;
  /** The connection itself, for what follows more of the session. */
  parts: Connection | undefined;
};

const KEPT = 200;
const NOTHING_TO_UNDO: Undoable = { undo: null, redo: null };
const NOTHING_OWN: ReadonlySet<string> = new Set();
const NOBODY: Seat["presence"] = new Map();
const NOTHING_HELD: Seat["holds"] = new Map();

/**
 * Enters a session with a token and stays while the page shows it. What is proposed without a
 * connection is kept under `name` over a reload.
 */
export function useParticipant(session: string, name: string, token: string | undefined): Seat {
  const [, draw] = useReducer((count: number) => count + 1, 0);
  const connection = useRef<Connection>(undefined);
  const updates = useRef<Settled[]>([]);
  const answers = useRef<Answer[]>([]);
  const sent = useRef(new Map<number, number>());
  /** The number under which a proposal was made, by the one under which it was sent anew. */
  const first = useRef(new Map<number, number>());
  const repaired = useRef<Seat["repaired"]>(undefined);
  const absence = useRef<{ seq: number; unsent: Set<number> }>(undefined);
  const returned = useRef<Return>(undefined);
  const cue = useRef<Seat["cue"]>(undefined);
  const time = useRef<ReturnType<typeof serviceTime>>(undefined);
  const history = useRef<ReturnType<typeof undoing<number | undefined>>>(undefined);

  const proposeRef = useRef<(edits: Edit[]) => number | undefined>(() => undefined);

  useEffect(() => {
    if (token === undefined) return;
    const answer = (
      now: number,
      became: { update: Settled } | { seq: number } | { problem: Problem },
    ) => {
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
        if (opened.replica.isOwn(update)) answer(update.n, { update });
      }
      if (change.kind === "made-anew") {
        first.current.set(change.n, first.current.get(change.was) ?? change.was);
        first.current.delete(change.was);
      }
      if (change.kind === "repaired") repaired.current = change;
      if (change.kind === "settled-away") answer(change.n, { seq: change.seq });
      if (change.kind === "refused") answer(change.n, { problem: change.problem });
      // Presence comes many times a second: the page is drawn once a frame at most.
      if (change.kind !== "presence") draw();
      else frame ??= requestAnimationFrame(drawFrame);
    };
    let frame: number | undefined;
    const drawFrame = () => {
      frame = undefined;
      draw();
    };
    const cued = (next: Cue) => {
      cue.current = { ...next, at: Date.now() };
      draw();
    };
    let opened: Connection;
    const stood = () => {
      const { standing, replica } = opened;
      if (standing === "away" || standing === "offline" || standing === "catching-up") {
        const begun = absence.current ?? { seq: replica.seq, unsent: new Set<number>() };
        for (const n of replica.pending) begun.unsent.add(n);
        absence.current = begun;
      } else if (standing === "present" && absence.current !== undefined) {
        const { seq, unsent } = absence.current;
        absence.current = undefined;
        const missed = Math.max(0, replica.seq - seq);
        if (missed > 0 || unsent.size > 0) returned.current = { missed, unsent };
      }
      draw();
    };
    let isShown = true;
    void claim(`${session}/${name}`).then((claimed) => {
      if (!isShown) return claimed.release();
      opened = new Connection({
        server: SERVER,
        session,
        token,
        claim: claimed,
        events: { changed, standing: stood, cued },
      });
      connection.current = opened;
      history.current = undoing({
        parts: opened,
        propose: (edits) => proposeRef.current([...edits]),
      });
      history.current.listen(draw);
      opened.start();
    });
    return () => {
      isShown = false;
      if (frame !== undefined) cancelAnimationFrame(frame);
      time.current?.end();
      time.current = undefined;
      connection.current?.leave();
      connection.current = undefined;
      history.current = undefined;
    };
  }, [session, name, token]);

  const propose: Seat["propose"] = (edits, more) => {
    const n = connection.current?.propose(edits, more);
    if (n !== undefined) sent.current.set(n, performance.now());
    return n;
  };
  proposeRef.current = propose;
  const replica = connection.current?.replica;
  return {
    standing: connection.current?.standing ?? "waiting",
    why: connection.current?.problem?.detail,
    latency: connection.current?.latency,
    now: () => {
      if (connection.current === undefined) return Date.now();
      time.current ??= serviceTime({ parts: connection.current });
      return time.current.now();
    },
    seq: replica?.seq ?? 0,
    view: replica?.view,
    confirmed: replica?.confirmed,
    own: replica?.own ?? NOTHING_OWN,
    unsent: replica?.pending.length ?? 0,
    you: replica?.you,
    session: replica?.session?.status,
    roster: replica?.roster ?? [],
    presence: replica?.presence ?? NOBODY,
    holds: replica?.holds ?? NOTHING_HELD,
    checking: replica?.checking.size ?? 0,
    cue: cue.current,
    say: (facts) => connection.current?.say(facts),
    hold: (at) => connection.current?.hold(at) ?? Promise.resolve(undefined),
    letGo: (at) => void connection.current?.release(at),
    call: (name) => connection.current?.cue(name) ?? Promise.resolve(undefined),
    shownIndex: (at, index) => replica?.shownIndex(at, index) ?? index,
    answers: answers.current,
    updates: updates.current,
    digest: () =>
      replica?.confirmed === undefined
        ? undefined
        : digest([...replica.own].reduce(without, replica.confirmed)),
    repaired: repaired.current,
    returned: returned.current,
    anchor: (at, index, isLeft) => connection.current?.replica.anchor(at, index, isLeft),
    release: (anchor) => connection.current?.replica.release(anchor),
    propose,
    undoable: history.current?.undoable ?? NOTHING_TO_UNDO,
    parts: connection.current,
    undo: () => history.current?.undo(),
    redo: () => history.current?.redo(),
    setOffline: (isOffline) =>
      isOffline ? connection.current?.goOffline() : connection.current?.goOnline(),
  };
}

/** A state without a place that only some see; as it is where that has gone with its record. */
function without(state: Json, at: string): Json {
  return valueAt(state, at) === undefined ? state : applyEffect(state, { at, op: "hide" });
}
