import { tokens } from "./apply.ts";
import { AWAY, Connection, type Standing, type TokenSource } from "./connection.ts";
import { fieldAt, foreseen, identified, refusalOf } from "./fields.ts";
import type {
  Cue,
  CueFor,
  Edit,
  Facts,
  Hold,
  Json,
  Participant,
  Place,
  Settled,
  Verdict,
  Problem as WireProblem,
} from "./frame.ts";
import type { Claim } from "./keeper.ts";
import { type Codec, JSON_CODEC } from "./link.ts";
import { type Problem, problemOf } from "./problem.ts";
import type { Change } from "./replica.ts";
import type {
  AnyTyping,
  Counters,
  ElementOf,
  Lists,
  Maps,
  Plain,
  RecordOf,
  Registers,
  Sets,
  StateOf,
  Texts,
  Typing,
  Undeclared,
} from "./typing.ts";
import { uuid7 } from "./uuid.ts";

/** What became of a proposal. */
export type Outcome =
  | { kind: "settled"; seq: number; verdicts: readonly Verdict[] }
  | { kind: "refused"; problem: Problem }
  /** Nothing was left of it to change. */
  | { kind: "moot" };

/**
 * A proposal of one's own. It is `pending` until the service has answered, and `checking` while an
 * outside check looks at it.
 */
export class Proposal {
  /** Its number among this client's own; another once it was made anew. */
  n: number | undefined;
  state: "pending" | "checking" | Outcome["kind"] = "pending";
  /** What became of it. It is never rejected. */
  readonly outcome: Promise<Outcome>;
  readonly edits: readonly Edit[];
  #end: (outcome: Outcome) => void = () => {};

  constructor(edits: readonly Edit[]) {
    this.edits = edits;
    this.outcome = new Promise((end) => {
      this.#end = end;
    });
  }

  /** @internal */
  end(outcome: Outcome): void {
    this.state = outcome.kind;
    this.#end(outcome);
  }
}

/** What a session tells, by the names under which one listens. */
export type Told = {
  /** What is shown has changed. */
  state: [];
  /** The connection stands otherwise, or something is answered. */
  standing: [Standing];
  /** Who is here has changed, or what they tell of themselves or hold. */
  people: [];
  /** An update was settled, one's own ones too. */
  settled: [Settled];
  /** A transient message. */
  cue: [Cue];
  /** Something of one's own was refused, or the service has a word. */
  problem: [Problem];
};

/** How to enter a session. */
export type Options = {
  /** The service, such as `https://rendel.example`; the page's own where it is left out. */
  server?: string;
  /** The session's id. */
  session: string;
  /** The participant's token, or what gets one; left out by a guest. */
  token?: TokenSource;
  /** What keeps pending proposals over a reload: `await claim(…)` of `@rendel/client/keeping`. */
  claim?: Claim;
  /** With a claim: keeps the state of the last moment too, shown after a reload without the service. */
  keepState?: boolean;
  /** How frames are written: `CBOR_CODEC` of `@rendel/client/cbor`, or JSON where it is left out. */
  codec?: Codec;
};

/** Enters a session. It comes back by itself after a loss, and sends again what was not answered. */
export function connect<T extends Typing = AnyTyping>(options: Options): Session<T> {
  return new Session(options);
}

/** A session, as one participant takes part in it. */
export class Session<T extends Typing = AnyTyping> {
  /** Fulfilled once the state is known. */
  readonly ready: Promise<this>;
  #connection: Connection;
  #ears: { [N in keyof Told]?: Set<(...told: Told[N]) => void> } = {};
  #places = new Set<{ at: string; known: Json | undefined; heard: () => void }>();
  #proposals = new Map<number, Proposal>();
  #isReady: () => void = () => {};
  constructor({
    server = location.origin,
    session,
    token,
    claim,
    keepState = false,
    codec = JSON_CODEC,
  }: Options) {
    this.ready = new Promise((ready) => {
      this.#isReady = () => ready(this);
    });
    this.#connection = new Connection({
      server,
      session,
      token,
      claim,
      keepState,
      asksFields: true,
      codec,
      events: {
        changed: (change) => this.#changed(change),
        standing: () => this.#stand(claim),
        cued: (cue) => this.#tell("cue", cue),
        noticed: (problem) => this.#tell("problem", problemOf(problem)),
      },
    });
    const { replica } = this.#connection;
    replica.foresee = (edit) => foreseen(replica.fields, edit, replica.you?.id ?? "");
    // What was kept over a reload has outcomes too.
    for (const { n, edits } of replica.asked) {
      const proposal = new Proposal(edits);
      proposal.n = n;
      this.#proposals.set(n, proposal);
    }
    this.#connection.start();
  }

  /** What is shown: what everyone agrees on, with one's own pending edits over it. */
  get state(): StateOf<T> | undefined {
    return this.#connection.replica.view as StateOf<T> | undefined;
  }

  /** What everyone agrees on. */
  get confirmed(): StateOf<T> | undefined {
    return this.#connection.replica.confirmed as StateOf<T> | undefined;
  }

  /** The place of the last update that is part of the state. */
  get seq(): number {
    return this.#connection.replica.seq;
  }

  get standing(): Standing {
    return this.#connection.standing;
  }

  /** Why it is away or has ended. */
  get why(): Problem | undefined {
    return asTold(this.#connection.problem);
  }

  /** Whether the state is of an earlier moment: there is no connection, or not yet again. */
  get isStale(): boolean {
    return this.standing !== "present";
  }

  /** Who you are here. */
  get you(): { id: string; name: string; role: T["role"]; hue: number } | undefined {
    return this.#connection.replica.you;
  }

  /** Who is here. */
  get people(): readonly Participant[] {
    return this.#connection.replica.roster;
  }

  /** How many are here, those included who are not named. */
  get count(): number {
    return this.#connection.replica.count;
  }

  /** What others tell of themselves, by participant and client. */
  get presence(): ReadonlyMap<string, ReadonlyMap<string, T["presence"]>> {
    return this.#connection.replica.presence as ReadonlyMap<
      string,
      ReadonlyMap<string, T["presence"]>
    >;
  }

  /** What is held, by path. */
  get holds(): ReadonlyMap<string, Hold> {
    return this.#connection.replica.holds;
  }

  /** One's own proposals without an answer. */
  get pending(): readonly Proposal[] {
    return [...this.#proposals.values()];
  }

  /** The connection and the replica, for who needs more. */
  get parts(): Connection {
    return this.#connection;
  }

  /** What is shown at a path such as `/items/m7`; the same object while nothing there changes. */
  at(path: string): Json | undefined {
    return this.#connection.replica.at(path);
  }

  /** Hears of something until what is given back is called. */
  listen<N extends keyof Told>(name: N, ear: (...told: Told[N]) => void): () => void {
    const ears: Set<(...told: Told[N]) => void> = this.#ears[name] ?? new Set();
    Object.assign(this.#ears, { [name]: ears.add(ear) });
    return () => ears.delete(ear);
  }

  /** Hears of each change at a path until what is given back is called. */
  watch(at: string, heard: () => void): () => void {
    const place = { at, known: this.at(at), heard };
    this.#places.add(place);
    return () => this.#places.delete(place);
  }

  /**
   * Proposes edits: all of them take effect or none does. They are shown at once, and what a client
   * can know to be wrong is refused without a word to the service.
   */
  propose(edits: readonly T["edits"][], more: { gesture?: string; note?: string } = {}): Proposal {
    const { fields } = this.#connection.replica;
    const asked = edits.map(identified);
    const proposal = new Proposal(asked);
    const problem = fields && asked.map((edit) => refusalOf(fields, edit)).find(Boolean);
    if (problem !== undefined) return this.#refused(proposal, problem);
    const n = this.#connection.propose(asked, more);
    if (n === undefined) return this.#refused(proposal, this.why ?? NOT_YET);
    proposal.n = n;
    this.#proposals.set(n, proposal);
    this.#shown();
    this.#tell("standing", this.standing);
    return proposal;
  }

  /** A map. Throws where the path leads to a field of another kind; so do the others below. */
  map<P extends keyof Maps<T>>(at: P & string): MapHandle<Maps<T>[P]> {
    return this.#handle(at, "map");
  }

  /** A record of a map by its path, such as `/items/m7`. */
  record(at: string): RecordHandle<Undeclared> {
    return new Handle(this, at) as unknown as RecordHandle<Undeclared>;
  }

  list<P extends keyof Lists<T>>(at: P & string): ListHandle<Lists<T>[P]> {
    return this.#handle(at, "list");
  }

  set<P extends keyof Sets<T>>(at: P & string): SetHandle<Sets<T>[P]> {
    return this.#handle(at, "set");
  }

  register<P extends keyof Registers<T>>(at: P & string): RegisterHandle<Registers<T>[P]> {
    return this.#handle(at, "register");
  }

  counter<P extends keyof Counters<T>>(at: P & string): CounterHandle {
    return this.#handle(at, "counter");
  }

  text<P extends keyof Texts<T>>(at: P & string): TextHandle {
    return this.#handle(at, "text");
  }

  #handle<H>(at: string, kind: string): H {
    const { fields } = this.#connection.replica;
    const found = fields && fieldAt(fields, tokens(at))?.kind;
    if (fields !== undefined && found !== kind)
      throw new Error(
        `${at} is ${found === undefined ? "no field of this session" : `a ${found}`}, not a ${kind}`,
      );
    return new Handle(this, at) as unknown as H;
  }

  /** Tells something of yourself, at the charter's rate; `null` takes a fact back. */
  tell(facts: { [F in keyof T["presence"]]?: T["presence"][F] | null }): void {
    this.#connection.say(facts as Facts);
  }

  /** Takes or renews a hold; gives the problem where it is not to be had. */
  hold(at: string, more?: { for?: number; over?: boolean }): Promise<Problem | undefined> {
    return this.#connection.hold(at, more).then(asTold);
  }

  release(at: string): Promise<Problem | undefined> {
    return this.#connection.release(at).then(asTold);
  }

  /** Sends a transient message. */
  cue<N extends keyof T["cues"] & string>(
    name: N,
    more: { data?: T["cues"][N]; to?: CueFor } = {},
  ): Promise<Problem | undefined> {
    return this.#connection.cue(name, more as { data?: Json; to?: CueFor }).then(asTold);
  }

  /**
   * Leaves for good. Doing it twice, or after the end, does no harm. With a claim, what has no
   * answer yet is kept for the next page and stays pending; without one it is refused.
   */
  leave(): void {
    this.#connection.leave();
  }

  #tell<N extends keyof Told>(name: N, ...told: Told[N]): void {
    for (const ear of [...(this.#ears[name] ?? [])]) ear(...told);
  }

  #stand(claim: Claim | undefined): void {
    if (this.#connection.replica.confirmed !== undefined) this.#isReady();
    // What a later page sends has no outcome yet.
    if (this.standing === "ended" && (this.why || !claim))
      for (const proposal of this.pending)
        this.#end(proposal.n, { kind: "refused", problem: this.why ?? NOT_YET });
    this.#tell("standing", this.standing);
    if (this.standing === "ended" && this.why) this.#tell("problem", this.why);
  }

  #refused(proposal: Proposal, problem: Problem): Proposal {
    // Nobody has had a chance to look at it yet.
    queueMicrotask(() => {
      proposal.end({ kind: "refused", problem });
      this.#tell("problem", problem);
    });
    return proposal;
  }

  #end(n: number | undefined, outcome: Outcome): void {
    const proposal = n === undefined ? undefined : this.#proposals.get(n);
    if (proposal === undefined || n === undefined) return;
    this.#proposals.delete(n);
    proposal.end(outcome);
  }

  #changed(change: Change): void {
    switch (change.kind) {
      case "settled": {
        const { update } = change;
        if (this.#connection.replica.isOwn(update))
          this.#end(update.n, {
            kind: "settled",
            seq: update.seq,
            verdicts: update.verdicts ?? [],
          });
        this.#tell("settled", update);
        break;
      }
      case "settled-away":
        this.#end(change.n, { kind: "settled", seq: change.seq, verdicts: [] });
        break;
      case "refused": {
        const problem = problemOf(change.problem);
        this.#end(change.n, { kind: "refused", problem });
        this.#tell("problem", problem);
        break;
      }
      case "moot":
        this.#end(change.n, { kind: "moot" });
        break;
      case "made-anew": {
        const proposal = this.#proposals.get(change.was);
        if (proposal === undefined) break;
        this.#proposals.delete(change.was);
        proposal.n = change.n;
        this.#proposals.set(change.n, proposal);
        break;
      }
      case "waiting": {
        const proposal = this.#proposals.get(change.n);
        if (proposal !== undefined) proposal.state = "checking";
        break;
      }
      case "roster":
      case "presence":
      case "holds":
        this.#tell("people");
        return;
      case "welcomed":
        this.#tell("people");
    }
    this.#shown();
  }

  #shown(): void {
    for (const place of [...this.#places]) {
      const now = this.at(place.at);
      if (now === place.known) continue;
      place.known = now;
      place.heard();
    }
    this.#tell("state");
  }
}

const asTold = (problem: WireProblem | undefined) => problem && problemOf(problem);

/** Of what was asked before the session was entered. */
const NOT_YET = problemOf(AWAY);

/** Something at one path: what it is, and hearing of its changes. */
export type AnyHandle<V> = {
  readonly at: string;
  /** What is shown there, `undefined` where nothing is. */
  readonly value: V | undefined;
  /** Hears of each change until what is given back is called. */
  listen: (heard: (value: V | undefined) => void) => () => void;
};
export type RegisterHandle<V> = AnyHandle<Plain<V> | null> & {
  set: (value: Plain<V>) => Proposal;
  clear: () => Proposal;
};
export type CounterHandle = AnyHandle<number> & { add: (by?: number) => Proposal };
export type SetHandle<V> = AnyHandle<readonly Plain<V>[]> & {
  include: (value: Plain<V>) => Proposal;
  exclude: (value: Plain<V>) => Proposal;
};
export type TextHandle = AnyHandle<string> & {
  /** Replaces `remove` characters from `index` on, counted in Unicode scalar values. */
  splice: (index: number, remove: number, insert?: string) => Proposal;
};
/** What is not declared takes any edit, and the service decides. */
export type LooseHandle = AnyHandle<Json> & {
  set: (value: Json) => Proposal;
  clear: () => Proposal;
  add: (by?: number) => Proposal;
  include: (value: Json) => Proposal;
  exclude: (value: Json) => Proposal;
  splice: (index: number, remove: number, insert?: string) => Proposal;
};
type NameOf<E> = E extends Undeclared ? string : keyof E & string;
type FieldOf<E, N> = E extends Undeclared
  ? LooseHandle
  : N extends keyof E
    ? FieldHandle<E[N]>
    : never;
/** What each field of a record is, by its name. */
export type FieldHandle<F> = F extends Undeclared
  ? LooseHandle
  : F extends { kind: "register"; value: infer V }
    ? RegisterHandle<V>
    : F extends { kind: "counter" }
      ? CounterHandle
      : F extends { kind: "text" }
        ? TextHandle
        : F extends { kind: "set"; value: infer V }
          ? SetHandle<V>
          : F extends { kind: "map"; each: infer E }
            ? MapHandle<E>
            : F extends { kind: "list"; each: infer E }
              ? ListHandle<E>
              : never;
export type RecordHandle<E> = AnyHandle<RecordOf<E>> & {
  field: <N extends NameOf<E>>(name: N) => FieldOf<E, N>;
  drop: () => Proposal;
};
export type MapHandle<E> = AnyHandle<{ readonly [id: string]: RecordOf<E> }> & {
  /** Puts a record; what is left out has its initial value. Its id is made where none is given. */
  put: (value: Partial<RecordOf<E>>, id?: string) => Proposal & { readonly id: string };
  drop: (id: string) => Proposal;
  record: (id: string) => RecordHandle<E>;
};
export type ListHandle<E> = AnyHandle<
  readonly { readonly id: string; readonly value: ElementOf<E> }[]
> & {
  insert: (value: ElementOf<E>, to?: Place) => Proposal & { readonly id: string };
  move: (id: string, to: Place) => Proposal;
  remove: (id: string) => Proposal;
};

type Around = Pick<Session, "at" | "watch" | "propose">;

/** All of them in one; which of its edits a kind takes is in the types above. */
class Handle {
  readonly at: string;
  #session: Around;

  constructor(session: Around, at: string) {
    this.#session = session;
    this.at = at;
  }

  get value(): Json | undefined {
    return this.#session.at(this.at);
  }

  listen(heard: (value: Json | undefined) => void): () => void {
    return this.#session.watch(this.at, () => heard(this.value));
  }

  field(name: string): Handle {
    return this.record(name);
  }

  record(id: string): Handle {
    return new Handle(this.#session, this.#inside(id));
  }

  set(value: Json): Proposal {
    return this.#edit({ at: this.at, op: "set", value });
  }

  clear(): Proposal {
    return this.#edit({ at: this.at, op: "clear" });
  }

  add(by = 1): Proposal {
    return this.#edit({ at: this.at, op: "add", by });
  }

  include(value: Json): Proposal {
    return this.#edit({ at: this.at, op: "include", value });
  }

  exclude(value: Json): Proposal {
    return this.#edit({ at: this.at, op: "exclude", value });
  }

  splice(index: number, remove: number, insert = ""): Proposal {
    return this.#edit({ at: this.at, op: "splice", index, delete: remove, insert });
  }

  put(value: Json, id = uuid7()): Proposal & { readonly id: string } {
    return Object.assign(this.#edit({ at: this.at, op: "put", id, value }), { id });
  }

  insert(value: Json, to: Place = {}): Proposal & { readonly id: string } {
    const id = uuid7();
    return Object.assign(this.#edit({ at: this.at, op: "insert", id, value, ...to }), { id });
  }

  move(id: string, to: Place): Proposal {
    return this.#edit({ at: this.#inside(id), op: "move", ...to });
  }

  remove(id: string): Proposal {
    return this.#edit({ at: this.#inside(id), op: "remove" });
  }

  drop(id?: string): Proposal {
    return this.#edit({ at: id === undefined ? this.at : this.#inside(id), op: "drop" });
  }

  #inside(name: string): string {
    return `${this.at}/${name.replaceAll("~", "~0").replaceAll("/", "~1")}`;
  }

  #edit(edit: Edit): Proposal {
    return this.#session.propose([edit]);
  }
}
