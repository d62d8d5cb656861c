/** The frames of a connection, as docs/protocol.md describes them. */

export type Json = null | boolean | number | string | Json[] | { [name: string]: Json };

/** One change at one path. */
export type Edit = { at: string; op: string; [member: string]: Json };
/** What a settled edit did, in final form, in the same shape as an edit. */
export type Effect = Edit;

export type Verdict = {
  edit: number;
  at: string;
  verdict: "applied" | "merged" | "rebased" | "overrode" | "dropped";
  met?: number[];
  because: string;
  lost?: Json;
};

/** A proposal that took its place in the order. */
export type Settled = {
  seq: number;
  by: string;
  client: string;
  n: number;
  at: number;
  effects: Effect[];
  verdicts?: Verdict[];
  gesture?: string;
  note?: string;
};

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

export type Participant = { id: string; name: string; role: string; hue: number; connections: number };
export type Outcome = { n: number; seq?: number; problem?: Problem };
export type Roster = { joined?: Participant[]; left?: string[]; changed?: Participant[] };

export type Enter = { type: "enter"; token?: string; client: string; seen?: number; epoch?: number };
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
  | { type: "digest"; seq: number; sha256: string }
  | { type: "ping"; sent: number }
  | { type: "leave" };

export type Welcome = {
  type: "welcome";
  you: { id: string; name: string; role: string; hue: number; client: string };
  session: { id: string; charter: string; version: number; status: string };
  epoch: number;
  seq: number;
  state?: Json;
  updates?: Settled[];
  roster: Participant[];
  limits: { frame: number; edits: number; proposals_per_second: number };
  outcomes: Outcome[];
  time: number;
};

export type FromService =
  | Welcome
  | { type: "settled"; updates: Settled[] }
  | { type: "refused"; n: number; problem: Problem }
  | ({ type: "outcome" } & Outcome)
  | ({ type: "roster" } & Roster)
  | { type: "status"; status: string; by: string }
  | { type: "digest"; seq: number }
  | { type: "resync"; seq: number; state: Json; reason: string }
  | { type: "pong"; sent: number; time: number }
  | { type: "notice"; problem: Problem }
  | { type: "bye"; problem: Problem };
