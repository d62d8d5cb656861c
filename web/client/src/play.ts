/** Rules of play: seats, turns, chance and ballots. Load it where a page has one. */

import type { Act, Edit, Json } from "./frame.ts";
import type { Proposal } from "./session.ts";

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

/** What one chose: choices, or a value of a scale. */
export type Choice = string[] | number | "unsure";

/** What a session gives to play in it. */
type Around = {
  readonly you: { id: string } | undefined;
  at: (path: string) => Json | undefined;
  propose: (edits: readonly Edit[]) => Proposal;
};

const acting = (session: Around, at: string) => (act: Act) => session.propose([{ at, ...act }]);
const optional = <N extends string>(name: N, value: string | undefined) =>
  (value === undefined ? {} : { [name]: value }) as { [K in N]?: string };

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
  return {
    get value() {
      return session.at(at) as Turn | undefined;
    },
    /** Hands it to the next seat that is taken, or to that one. */
    advance: (to?: string) => act({ op: "advance", ...optional("to", to) }),
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

/** The ballot at a path such as `/blend`. */
export function ballotAt(session: Around, at: string) {
  const act = acting(session, at);
  return {
    get value() {
      return session.at(at) as Ballot | undefined;
    },
    /** What one has cast oneself. */
    get own(): Choice | undefined {
      const who = (session.you?.id ?? "").replaceAll("~", "~0").replaceAll("/", "~1");
      return session.at(`${at}-ballots/${who}/choice`) as Choice | undefined;
    },
    /** Casts, or casts again in place of what one cast before. */
    cast: (choice: Choice) =>
      act({ op: "cast", ...(Array.isArray(choice) ? { choices: choice } : { value: choice }) }),
    withdraw: () => act({ op: "withdraw" }),
    /** Shows all of it. Needs the power `unseal`. */
    unseal: () => act({ op: "unseal" }),
    /** Begins the next round. Needs the power `restart`. */
    restart: (question?: string) => act({ op: "restart", ...optional("question", question) }),
  };
}
