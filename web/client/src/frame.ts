/** The frames of a connection, as docs/protocol.md describes them. */

export type Json = null | boolean | number | string | Json[] | { [name: string]: Json };

/**
 * Where an element of a list goes: behind or in front of another (`null` for the front and the
 * end), or by index.
 */
export type Place = { after?: string | null; before?: string | null; index?: number };

/** One change at one path. */
export type Edit = { at: string } & (
  | { op: "set" | "include" | "exclude" | "test"; value: Json }
  | { op: "clear" | "drop" | "remove" }
  | { op: "add"; by: number }
  | { op: "put"; id?: string; value: Json }
  | ({ op: "insert"; id?: string; value: Json } & Place)
  | ({ op: "move" } & Place)
  | { op: "splice"; index: number; delete?: number; insert?: string }
  | Act
);

/** Milliseconds, or a time such as "10s" or "5m". */
export type Span = number | string;

/**
 * What an edit asks of the service: to undo, or a move in a field that keeps rules of play. What it
 * did is told as values.
 */
export type Act =
  | { op: "sit" | "accept"; seat?: string }
  | { op: "stand" | "reverse" | "cancel" | "start" | "stop" }
  | { op: "set"; value?: never; due: number }
  | { op: "set"; value?: never; in: Span }
  | { op: "extend"; by: Span }
  | { op: "seek"; to: Span }
  | { op: "rate"; rate: number }
  | { op: "offer"; to?: string }
  | { op: "advance"; to?: string; turn?: number }
  | { op: "give"; seat: string; to?: string }
  | { op: "roll"; sides: number; count?: number }
  | { op: "shuffle"; of: string; field: string }
  | { op: "open"; draw: number }
  | { op: "commit"; sha256: string }
  | { op: "reveal"; value: string }
  | { op: "waive"; seat: string }
  /** Of a ballot: in another `round` than the one that it names, an edit is `stale`. */
  | { op: "cast"; choices?: string[]; value?: number | "unsure"; round?: number }
  | { op: "withdraw" | "unseal"; round?: number }
  | { op: "restart"; question?: string; round?: number }
  | { op: "undo" | "redo"; of?: string | number; skip?: boolean };

/** What a settled edit did, in final form. */
export type Effect = { at: string } & (
  | { op: "set"; value?: Json; values?: Json[] }
  | { op: "include" | "exclude" | "reset" | "show"; value: Json }
  | { op: "clear" | "drop" | "remove" | "hide" }
  | { op: "add"; by: number; now: number }
  | { op: "put" | "revive"; id: string; value: Json }
  | { op: "insert"; id: string; value: Json; after: string | null; made?: Json }
  | { op: "move"; after: string | null; made?: Json }
  | { op: "splice"; index: number; delete: number; insert: string; made?: Json }
);

/** Whether something was refused for its pace alone, and is to be sent again. */
export function isTooFast(problem: Problem): boolean {
  return problem.type === "urn:rendel:problem:too-fast";
}

/** Whether the record or element at its path goes. */
export function takesAway(step: Edit | Effect): boolean {
  return step.op === "drop" || step.op === "remove";
}

export type Verdict = {
  /** The rule of the session whose edit it is, where it is not the proposer's. */
  rule?: string;
  edit: number;
  at: string;
  verdict: "applied" | "merged" | "rebased" | "overrode" | "dropped" | "skipped";
  met?: number[];
  because: string;
  lost?: Json;
};

/** A proposal that took its place in the order. */
export type Settled = {
  seq: number;
  /** Where it stands for several of which nothing is shown: the `seq` of the first. */
  first?: number;
  by: string;
  client: string;
  n: number;
  at: number;
  effects: Effect[];
  verdicts?: Verdict[];
  gesture?: string;
  note?: string;
  /** What rules of the session did in it: which effects, by their index, or why nothing. */
  rules?: { rule: string; first: number; count: number; failed?: string }[];
  /** What it takes back, where it is an undo or a redo. */
  undoes?: { way: "undo" | "redo"; updates: number[]; passed?: number[] };
};

/** What taking a step back would do now. */
export type Look = {
  /** What it is named by: its gesture, else its last update. */
  of: string | number;
  /** The places that would change, of a long one the first 64. */
  edits: { at: string; op: string }[];
  /** What would stay, since something stands in the way. */
  skipped?: { at: string; update?: number; because: string }[];
  /** Why it would be refused, if it would. */
  refusal?: Problem;
};

/** What a participant can undo and redo now. */
export type Undoable = { undo: Look | null; redo: Look | null };

/** A row of a query. */
export type Row<V = Json> = { path: string; value: V };

/** The rows of a query. Where `end` is given they are as many as it gives: more may be behind that. */
export type Rows<V = Json> = { seq: number; rows: Row<V>[]; end?: Json[] };

/** How rows came to be others, one after another. */
export type RowStep<V = Json> =
  | { step: "in"; at: number; row: Row<V> }
  | { step: "out"; at: number }
  | { step: "move"; at: number; to: number }
  | { step: "change"; at: number; value: V };

/** A query of the charter with its parameters, one of the moment, or what is at one path. */
export type Ask = (
  | { name: string; with?: { [parameter: string]: Json } }
  | { of: { from: string; where?: string; order?: string[]; limit?: number; fields?: string[] } }
  | { path: string }
) & { limit?: number; after?: Json[] };

/** What an update also did, for whoever sees more of it than all of their audience. */
export type Beside = Pick<Settled, "seq" | "by" | "client" | "n" | "effects" | "verdicts">;

/** Why something did not take effect (RFC 9457). */
export type Problem = {
  type: string;
  title: string;
  status: number;
  detail: string;
  at?: string;
  current?: Json;
  wait_ms?: number;
  did_you_mean?: string;
  [member: string]: Json | undefined;
};

export type Participant = {
  id: string;
  name: string;
  role: string;
  hue: number;
  /** Tabs and processes that they have open here; 0 while they are away. */
  connections: number;
  away?: boolean;
};
/** What a participant tells of themselves, by the names of the charter. */
export type Facts = { [fact: string]: Json };
/** What is told, by participant and client: in two tabs somebody has two pointers. */
export type Told<F> = { [participant: string]: { [client: string]: F } };
/** A place in a text. */
export type Caret = { at: string; index: number; to?: number };
/** A path that somebody holds, and with it all that is inside. */
export type Hold = { at: string; by: string; until: number };
export type HoldChange = { taken?: Hold[]; freed?: string[] };
export type Cue = { name: string; by: string; data?: Json };
export type CueFor = "everyone" | "everyone-else" | { role: string } | { participant: string };
export type Outcome = { n: number; seq?: number; problem?: Problem };
export type Left = { id: string; why: "left" | "lost" | "removed" };
export type Roster = {
  /** How many are here in all, if that is another number and some are not named. */
  count?: number;
  joined?: Participant[];
  left?: Left[];
  changed?: Participant[];
};

/** How a field is declared, as in the charter. */
export type Field = {
  kind: string;
  initial?: Json;
  filled?: string;
  merge?: string;
  most?: number;
  min?: number;
  max?: number;
  schema?: { [keyword: string]: Json };
  each?: Fields;
  /** Of a ballot: its choices never leave the service. */
  secret?: boolean;
};
/** The fields of the state, or of a record, by their names. */
export type Fields = { [name: string]: Field };

export type Enter = {
  type: "enter";
  token?: string;
  client: string;
  seen?: number;
  epoch?: number;
  audience?: number;
  presence?: Facts;
  fields?: boolean;
};
export type Propose = {
  type: "propose";
  n: number;
  seen: number;
  answered: number;
  edits: Edit[];
  gesture?: string;
  note?: string;
};
export type FromParticipant =
  | Enter
  | Propose
  | { type: "proposals"; proposals: Omit<Propose, "type">[] }
  | { type: "digest"; seq: number; sha256: string; yours?: string }
  | { type: "presence"; seen?: number; set: Facts }
  | { type: "hold"; n: number; at: string; for?: number; over?: boolean }
  | { type: "release"; n: number; at: string }
  | { type: "cue"; n: number; name: string; data?: Json; to?: CueFor }
  | { type: "renew"; n: number; token: string }
  | { type: "ping"; sent: number }
  | { type: "follow-undo" }
  | { type: "follow-query"; query: number; ask: Ask; had?: { mark: string; seq: number } }
  | { type: "leave-query"; query: number }
  | { type: "leave" };

export type Welcome = {
  type: "welcome";
  you: { id: string; name: string; role: string; hue: number; client: string };
  session: { id: string; charter: string; version: number; status: string };
  epoch: number;
  audience?: number;
  seq: number;
  state?: Json;
  updates?: Settled[];
  /** What is yours of the state beside what all of your audience see, by paths, after the updates. */
  yours?: { [path: string]: Json };
  /** What the updates also did for you alone, where there is no state. */
  beside?: Beside[];
  /** How the fields are declared that this role may see, where `enter` asked for it. */
  fields?: Fields;
  roster: Participant[];
  /** How many are here in all, if some are not named. */
  count?: number;
  presence?: Told<Facts>;
  holds?: Hold[];
  /** For a guest, the token with which they are the same guest when they come back. */
  token?: string;
  limits: {
    frame: number;
    edits: number;
    proposals_per_second: number;
    burst?: number;
    presence_per_second?: number;
    /** Facts that lapse so many milliseconds after they were said. */
    presence_lapses_ms?: { [fact: string]: number };
  };
  outcomes: Outcome[];
  time: number;
};

export type FromService =
  | Welcome
  | { type: "settled"; updates: Settled[] }
  | ({ type: "beside" } & Beside)
  | { type: "refused"; n: number; problem: Problem }
  | ({ type: "outcome" } & Outcome)
  | ({ type: "roster" } & Roster)
  | { type: "waiting"; n: number }
  | { type: "answer"; n: number; problem?: Problem }
  | { type: "presence"; of: Told<Facts | null> }
  | ({ type: "holds" } & HoldChange)
  | ({ type: "cue" } & Cue)
  | { type: "status"; status: string; except?: string[]; by: string }
  | { type: "digest"; seq: number }
  | {
      type: "resync";
      seq: number;
      state: Json;
      yours?: { [path: string]: Json };
      reason: string;
    }
  | { type: "pong"; sent: number; time: number }
  | ({ type: "undoable" } & Undoable)
  | ({ type: "rows"; query: number; mark?: string } & Rows)
  | {
      type: "row-steps";
      query: number;
      seq: number;
      since?: number;
      steps: RowStep[];
      end?: Json[];
    }
  | { type: "query-refused"; query: number; problem: Problem }
  | { type: "notice"; problem: Problem }
  | { type: "bye"; problem: Problem };
