/** Rules of play: seats, turns, chance and ballots. Load it where a page has one. */

import type { Connection } from "./connection.ts";
import type { Act, Edit, Json, Span } from "./frame.ts";
import type { Proposal } from "./session.ts";
import { ServiceTime } from "./time.ts";

/** Who sits where. */
export type Seats = {
  /** Until when each seat is kept whose participant is away, in milliseconds since 1970 UTC. */
  away: { [seat: string]: number };
  /** The participant on each seat. */
  by: { [seat: string]: string | null };
  /** Whether more have to sit before anything else begins. */
  gathering: boolean;
  /** To whom seats are offered. */
  offers: { [seat: string]: string };
};

/** Whose turn it is. */
export type Turn = {
  /** When its time has run out, in milliseconds since 1970 UTC, where turns have a time. */
  due?: number;
  /** Whether it has, and the turn did not pass. */
  late?: true;
  moves: number;
  /** 1, 2, 3 …; 0 before the first. */
  number: number;
  reversed: boolean;
  seat: string | null;
};

/** A draw that was made. */
export type Draw = (
  | { kind: "roll"; draw: number; key: string; sides: number; values: number[] }
  | { kind: "shuffle"; draw: number; of: string; field: string }
) & {
  /** What seats added, in hexadecimal. */
  entropy?: { [seat: string]: string };
};

/** What was drawn last, and to what the next draw is bound. */
export type Chance = {
  draws: number;
  last: Draw | null;
  next: string | null;
  opened: { draw: number; key: string } | null;
  /** What seats add to the next draw, where the charter lets them. */
  entropy?: { [seat: string]: { sha256: string; value: string | null } };
};

/** What a ballot comes to. */
export type Results = {
  tally: { [choice: string]: number };
  /** Percent of each choice, which add up to 100.0. */
  shares?: { [choice: string]: number };
  /** Of a scale. */
  mean?: number;
  median?: number;
  spread?: number;
  ask?: { high: string[]; low: string[]; unsure: string[] };
};

/** What all are told of a ballot. */
export type Ballot = {
  cast: number;
  earlier: { cast: number; question: string | null; results: Results | null; round: number }[];
  /** Whether results are shown. */
  open: boolean;
  question: string | null;
  results: Results | null;
  round: number;
  /** Who has cast, where names are told. */
  voters: { [who: string]: true } | null;
};

/** A time at which something happens, in milliseconds since 1970 UTC. */
export type Deadline = {
  due: number | null;
  /** When it fired. */
  fired: number | null;
  /** How long after the session begins it is due, until that has begun. */
  in?: number;
};

/** A position that moves with the service's time, in milliseconds. */
export type Clock = {
  position: number;
  /** 1 is the pace of real time. */
  rate: number;
  running: boolean;
  /** From when on it has moved. */
  since: number | null;
  min?: number;
  max?: number;
};

/** Where a clock is at a time of the service, the same for everybody. */
export function positionAt(clock: Clock, now: number): number {
  const moved = clock.running ? Math.max(now - (clock.since ?? now), 0) * clock.rate : 0;
  const position = Math.floor(clock.position + moved);
  const { min = Number.NEGATIVE_INFINITY, max = Number.POSITIVE_INFINITY } = clock;
  return Math.max(Math.min(position, max), min);
}

/** How long a deadline or a turn has, in milliseconds; nothing where no time is set or it is over. */
export function timeLeft(of: Deadline | Turn, now: number): number | undefined {
  if (of.due === null || of.due === undefined) return undefined;
  if ("fired" in of && of.fired !== null) return undefined;
  return Math.max(of.due - now, 0);
}

/** So many pings are sent at this pace at first, and at that one from then on. */
const SOON = 48;
const FIRST_BEAT = 250;
const LATER_BEAT = 2_000;

const times = new WeakMap<Connection, { time: ServiceTime; users: number; stop: () => void }>();

/**
 * The service's time, told from pings and pongs until it is ended: `now()` in milliseconds since 1970
 * UTC, and one's own before anything is known. All who ask for that of one connection share it.
 */
export function serviceTime(session: { readonly parts: Connection }) {
  const connection = session.parts;
  const known = times.get(connection) ?? keepTime(connection);
  known.users += 1;
  let isOver = false;
  return {
    now: (): number => known.time.at(performance.now()) ?? Date.now(),
    /** Whether anything is known yet. */
    get isKnown(): boolean {
      return known.time.samples > 0;
    },
    end: (): void => {
      if (isOver) return;
      isOver = true;
      known.users -= 1;
      if (known.users === 0) known.stop();
    },
  };
}

function keepTime(connection: Connection) {
  const time = new ServiceTime();
  let timer: ReturnType<typeof setTimeout>;
  let last = connection.pong;
  const beat = () => {
    const { pong, latency = 0 } = connection;
    if (pong !== undefined && pong !== last)
      time.handlePong(pong.sent, pong.time, pong.sent + latency);
    last = pong;
    connection.ping();
    timer = setTimeout(beat, time.samples < SOON ? FIRST_BEAT : LATER_BEAT);
  };
  const stop = () => {
    clearTimeout(timer);
    times.delete(connection);
  };
  const known = { time, users: 0, stop };
  times.set(connection, known);
  beat();
  return known;
}

/** What one chose: choices, or a value of a scale. */
export type Choice = string[] | number | "unsure";

/** What a session gives to play in it. */
type Around = {
  readonly you: { id: string } | undefined;
  readonly parts: { replica: Pick<Connection["replica"], "fields"> };
  at: (path: string) => Json | undefined;
  propose: (edits: readonly Edit[]) => Proposal;
};

const acting = (session: Around, at: string) => (act: Act) => session.propose([{ at, ...act }]);
const optional = <N extends string, V>(name: N, value: V | undefined) =>
  (value === undefined ? {} : { [name]: value }) as { [K in N]?: V };

/** The seat of a participant. */
export function seatOf(seats: Seats | undefined, who: string | undefined): string | undefined {
  const by = Object.entries(seats?.by ?? {});
  return by.find(([, sits]) => sits !== null && sits === who)?.[0];
}

/** The seats at a path such as `/seats`. */
export function seatsAt(session: Around, at: string) {
  const act = acting(session, at);
  const value = () => session.at(at) as Seats | undefined;
  return {
    get value() {
      return value();
    },
    /** One's own seat. */
    get own(): string | undefined {
      return seatOf(value(), session.you?.id);
    },
    /** Takes that seat, or the first that is free. */
    sit: (seat?: string) => act({ op: "sit", ...optional("seat", seat) }),
    stand: () => act({ op: "stand" }),
    /** Offers one's seat to somebody; to nobody takes the offer back. */
    offer: (to?: string) => act({ op: "offer", ...optional("to", to) }),
    /** Takes the seat that was offered; two who have offered theirs to each other swap. */
    accept: (seat?: string) => act({ op: "accept", ...optional("seat", seat) }),
    /** Puts somebody on a seat, or frees it. Needs the power `seat`. */
    give: (seat: string, to?: string) => act({ op: "give", seat, ...optional("to", to) }),
  };
}

/** The turn at a path such as `/turn`. */
export function turnAt(session: Around, at: string) {
  const act = acting(session, at);
  const value = () => session.at(at) as Turn | undefined;
  return {
    get value() {
      return value();
    },
    /** Hands the turn that is shown to the next seat that is taken, or to that one. */
    advance: (to?: string) =>
      act({ op: "advance", ...optional("to", to), ...optional("turn", value()?.number) }),
    reverse: () => act({ op: "reverse" }),
  };
}

/** The source of chance at a path such as `/chance`. */
export function chanceAt(session: Around, at: string) {
  const act = acting(session, at);
  return {
    get value() {
      return session.at(at) as Chance | undefined;
    },
    /** Rolls dice. */
    roll: (sides: number, count = 1) => act({ op: "roll", sides, count }),
    /** Deals the values of a field anew among the records of a map. */
    shuffle: (of: string, field: string) => act({ op: "shuffle", of, field }),
    /** Tells the key of a shuffle. Needs the power `open-draws`. */
    open: (draw: number) => act({ op: "open", draw }),
    /** Commits one's seat to 32 bytes that it adds to the next draw, by their SHA-256 in hexadecimal. */
    commit: (sha256: string) => act({ op: "commit", sha256 }),
    /** Reveals the bytes, in hexadecimal. Nothing is drawn before all who committed have. */
    reveal: (value: string) => act({ op: "reveal", value }),
    /** Takes back what a seat does not reveal. Needs the power `open-draws`. */
    waive: (seat: string) => act({ op: "waive", seat }),
  };
}

/** The deadline at a path such as `/closing`. */
export function deadlineAt(session: Around, at: string) {
  const act = acting(session, at);
  return {
    get value() {
      return session.at(at) as Deadline | undefined;
    },
    /** Gives it a time, so long from when that is settled. */
    setIn: (span: Span) => act({ op: "set", in: span }),
    /** Gives it a time, in milliseconds since 1970 UTC. */
    setDue: (due: number) => act({ op: "set", due }),
    extend: (by: Span) => act({ op: "extend", by }),
    cancel: () => act({ op: "cancel" }),
  };
}

/** The clock at a path such as `/playback`. */
export function clockAt(session: Around, at: string) {
  const act = acting(session, at);
  return {
    get value() {
      return session.at(at) as Clock | undefined;
    },
    start: () => act({ op: "start" }),
    stop: () => act({ op: "stop" }),
    seek: (to: Span) => act({ op: "seek", to }),
    rate: (rate: number) => act({ op: "rate", rate }),
  };
}

/** What this page has cast on one ballot: what waits for an answer, and what was settled last. */
type Cast = { round: number; choice: Choice | undefined; proposal: Proposal };
type OwnCasts = { waiting: Cast[]; settled?: Cast };
const ownCasts = new WeakMap<Around["parts"], Map<string, OwnCasts>>();

function castsAt({ parts }: Around, at: string): OwnCasts {
  const all = ownCasts.get(parts) ?? new Map<string, OwnCasts>();
  ownCasts.set(parts, all);
  const own = all.get(at) ?? { waiting: [] };
  all.set(at, own);
  for (const cast of own.waiting) if (cast.proposal.state === "settled") own.settled = cast;
  own.waiting = own.waiting.filter(({ proposal }) => /pending|checking/.test(proposal.state));
  return own;
}

/** The ballot at a path such as `/blend`. */
export function ballotAt(session: Around, at: string) {
  const value = () => session.at(at) as Ballot | undefined;
  // Made while offline, an edit means the round that is shown and no later one.
  const act = (act: Act) => {
    const round = value()?.round;
    return session.propose([{ at, ...act, ...(round === undefined ? {} : { round }) }]);
  };
  const cast = (asked: Act, choice: Choice | undefined) => {
    const round = value()?.round ?? 0;
    const proposal = act(asked);
    castsAt(session, at).waiting.push({ round, choice, proposal });
    return proposal;
  };
  return {
    get value() {
      return value();
    },
    /**
     * What one has cast in this round, shown while it waits for its answer too. The service never
     * sends the choices of a secret ballot: of those the page knows what was cast on it.
     */
    get own(): Choice | undefined {
      const { waiting, settled } = castsAt(session, at);
      const round = value()?.round ?? 0;
      const last = waiting.findLast((cast) => cast.round === round);
      if (last !== undefined) return last.choice;
      const isSecret = session.parts.replica.fields?.[at.slice(1)]?.secret === true;
      if (isSecret) return settled?.round === round ? settled.choice : undefined;
      const who = (session.you?.id ?? "").replaceAll("~", "~0").replaceAll("/", "~1");
      return session.at(`${at}-ballots/${who}/choice`) as Choice | undefined;
    },
    /** Casts, or casts again in place of what one cast before. */
    cast: (choice: Choice) =>
      cast(
        { op: "cast", ...(Array.isArray(choice) ? { choices: choice } : { value: choice }) },
        choice,
      ),
    withdraw: () => cast({ op: "withdraw" }, undefined),
    /** Shows all of it. Needs the power `unseal`. */
    unseal: () => act({ op: "unseal" }),
    /** Begins the next round. Needs the power `restart`. */
    restart: (question?: string) => act({ op: "restart", ...optional("question", question) }),
  };
}
