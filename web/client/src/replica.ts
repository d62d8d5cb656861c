import { afterIndex, applyEdit, applyEffect, textAt, valueAt } from "./apply.ts";
import { Company } from "./company.ts";
import type { Splice } from "./draft.ts";
import type {
  Beside,
  Edit,
  Effect,
  Enter,
  Facts,
  Fields,
  FromParticipant,
  FromService,
  Hold,
  HoldChange,
  Json,
  Outcome,
  Participant,
  Problem,
  Propose,
  Roster,
  Settled,
  Welcome,
} from "./frame.ts";
import { isTooFast, takesAway } from "./frame.ts";
import { held, plain } from "./members.ts";
import { isForgotten, tooLarge } from "./refusals.ts";
import { type Drafts, newDrafts } from "./texts.ts";

/** What a frame of the service changed. */
export type Change =
  | { kind: "welcomed" }
  | { kind: "settled"; update: Settled }
  | { kind: "refused"; n: number; problem: Problem }
  | { kind: "settled-away"; n: number; seq: number }
  /**
   * An own proposal that waited, or was refused for what it was made on top of, is sent under
   * another number.
   */
  | { kind: "made-anew"; was: number; n: number }
  /** An own proposal that waited has nothing left to change, and is not sent. */
  | { kind: "moot"; n: number }
  /** This replica differed from the service's state, and has that now. */
  | { kind: "repaired"; seq: number; reason: string }
  | { kind: "roster"; change: Roster }
  /** These participants tell something else of themselves, or nothing any more. */
  | { kind: "presence"; of: string[] }
  | { kind: "holds"; change: HoldChange }
  /** An own proposal waits for an outside check: nobody else sees it. */
  | { kind: "waiting"; n: number }
  /** The session was frozen, thawed or ended. */
  | { kind: "status"; status: string; by: string }
  /**
   * The service remembers nothing of this client, which is to enter again: what it did not send
   * before is sent anew then.
   */
  | { kind: "unknown" }
  /** The service compares: it is to be told the SHA-256 of this canonical JSON. */
  | { kind: "compared"; seq: number; confirmed: Json; own: string[] }
  | { kind: "diverged"; why: string };

/**
 * A place in a text that stays at its characters. Positions count Unicode scalar values of what is
 * shown.
 */
export type Anchor = {
  readonly at: string;
  /** Where it is. */
  index: number;
  /** Attached to the character before `index`, else to the one at it. */
  readonly isLeft: boolean;
  /** Whether that character is still there. */
  isThere: boolean;
};

/** A proposal without an answer. */
type Pending = {
  /** Own proposals are shown in the order of these. */
  key: number;
  /** Its first number. */
  first: number;
  /** The number that its user knows it by. */
  n: number;
  /** The welcome after which it was first sent, if it was. */
  sent?: number;
  /**
   * As it was sent and is sent again. None while it waits: it is made anew when those before it are
   * answered.
   */
  frame?: Propose;
  edits: Edit[];
  more: { gesture?: string; note?: string };
};

/** A replica as it is kept while its page is away. Anchors are not part of it. */
export type Kept = {
  client: string;
  seq: number;
  epoch: number;
  audience?: number;
  own?: string[];
  confirmed: Json;
  made?: number;
  lastN: number;
  answered: number;
  refused: number;
  /** A guest's token, with which they are the same guest. */
  token?: string;
  /** Each with the splices that it is among what everyone agrees on and those before it. */
  pending: (Pending & { now: Edit[] })[];
};

/**
 * The confirmed state plus one's own pending proposals.
 *
 * Nothing is known until the first `welcome`: `view` is `undefined` then, which is not the same as
 * an empty state.
 */
export class Replica {
  readonly client: string;
  you: Welcome["you"] | undefined;
  session: Welcome["session"] | undefined;
  /** How the fields are declared that its role may see, once a welcome has said it. */
  fields: Fields | undefined;
  epoch = 0;
  /** Which of the session's audiences it is of. */
  audience = 0;
  seq = 0;
  /** Who else is here. */
  readonly #company = new Company((who, client) => client === this.client && who === this.you?.id);
  /** The numbers of own proposals that wait for an outside check. */
  checking = new Set<number>();
  #said: Facts = {};
  #confirmed: Json | undefined;
  #view: Json | undefined;
  #pending: Pending[] = [];
  #outgoing: FromParticipant[] = [];
  /** The texts in which something is pending, once there are any. */
  #drafts: Drafts | undefined;
  /** Proposals that were made here. */
  #made = 0;
  #lastN = 0;
  /** Welcomes so far. */
  #welcomes = 0;
  #answered = 0;
  /** The last own proposal that was refused. */
  #refused = 0;
  #diverged = false;
  /** What an own edit will be as far as a client can know it: so it is shown until it is settled. */
  foresee: (edit: Edit) => Edit = (edit) => edit;
  /** What bounds this connection, once a welcome has said it. */
  limits: Welcome["limits"] | undefined;
  #refusedHere: Change[] = [];
  /** The paths of what is its own of the state, beside what all of its audience see. */
  own = new Set<string>();
  /** What updates that come next did for this replica alone. */
  #beside = new Map<number, Beside>();

  constructor(client: string) {
    this.client = client;
  }

  /** What brings this replica back after a reload; `undefined` before the first `welcome`. */
  kept(): Kept | undefined {
    if (this.#confirmed === undefined || this.#diverged) return undefined;
    return {
      client: this.client,
      seq: this.seq,
      epoch: this.epoch,
      audience: this.audience,
      own: [...this.own],
      confirmed: plain(this.#confirmed),
      made: this.#made,
      lastN: this.#lastN,
      answered: this.#answered,
      refused: this.#refused,
      pending: this.#pending.map((pending) => ({ ...pending, now: this.#madeAnew(pending) })),
    };
  }

  /** A replica that was kept. Its session is known again at the next `welcome`. */
  static restore(kept: Kept): Replica {
    const replica = new Replica(kept.client);
    replica.#confirmed = held(kept.confirmed);
    replica.seq = kept.seq;
    replica.epoch = kept.epoch;
    replica.audience = kept.audience ?? 0;
    replica.own = new Set(kept.own);
    replica.#made = kept.made ?? kept.lastN;
    replica.#lastN = kept.lastN;
    replica.#answered = kept.answered;
    replica.#refused = kept.refused;
    for (const { now, ...pending } of kept.pending) {
      for (const edit of now) {
        replica.#splice(edit, pending.key);
      }
      // What was sent after it was kept is not known here.
      replica.#pending.push({ ...pending, sent: 0 });
      replica.#view = undefined;
    }
    // How the service orders what is on its way is not known here any more: what is made now waits
    // for that.
    replica.#drafts?.setOvertaken(true);
    return replica;
  }

  get roster(): readonly Participant[] {
    return this.#company.roster;
  }

  /** How many are here, those included who look on and are not named. */
  get count(): number {
    return this.#company.count ?? this.#company.roster.length;
  }

  /**
   * What participants tell of themselves, by participant and client; what this client tells is not
   * among it. Carets count in what everyone agrees on: see `shownIndex`.
   */
  get presence(): ReadonlyMap<string, ReadonlyMap<string, Facts>> {
    return this.#company.telling?.told ?? NOTHING_TOLD;
  }

  /** What is held, by path. */
  get holds(): ReadonlyMap<string, Hold> {
    return this.#company.holds;
  }

  /**
   * Whether this client made an update. Its id alone does not tell: another participant may use the
   * same.
   */
  isOwn(update: Settled): boolean {
    return update.client === this.client && update.by === this.you?.id;
  }

  /**
   * The state that everyone agrees on, `undefined` before the first `welcome`. Cost O(what has
   * changed since the last time, and the members around it); what did not change is the same
   * object.
   */
  get confirmed(): Json | undefined {
    return this.#confirmed === undefined ? undefined : plain(this.#confirmed);
  }

  /**
   * The confirmed state with one's own pending edits over it: what a user is shown. Cost as
   * `confirmed`.
   */
  get view(): Json | undefined {
    const view = this.#shown();
    return view === undefined ? undefined : plain(view);
  }

  /** What is shown at a path such as `/markers/m7`; cheaper than `view` where the rest is large. */
  at(pointer: string): Json | undefined {
    const found = valueAt(this.#shown(), pointer);
    return found === undefined ? undefined : plain(found);
  }

  #shown(): Json | undefined {
    if (this.#view === undefined && this.#confirmed !== undefined) {
      const edits = this.#pending
        .flatMap((pending) => pending.edits)
        .filter((edit) => edit.op !== "splice")
        .map(this.foresee);
      const view = edits.reduce(applyEdit, this.#confirmed);
      this.#view = this.#drafts?.over(view) ?? view;
    }
    return this.#view;
  }

  /** The proposals without an answer, in order: after a `welcome` they are sent again. */
  get unanswered(): readonly Propose[] {
    return this.#pending.flatMap((pending) => pending.frame ?? []);
  }

  /** The highest number up to which every outcome is known. */
  get answered(): number {
    return this.#answered;
  }

  /** A proposal is on its way to the service, which may settle it though no answer comes. */
  noteSent(n: number): void {
    const pending = this.#pending.find(({ frame }) => frame?.n === n);
    if (pending !== undefined) pending.sent ??= this.#welcomes;
  }

  /** The first numbers of the proposals that have no answer yet, those that wait included. */
  get pending(): readonly number[] {
    return this.#pending.map((pending) => pending.first);
  }

  /** The proposals that have no answer yet, by the numbers that their user knows them by. */
  get asked(): readonly Pick<Pending, "n" | "edits" | "sent" | "frame" | "more">[] {
    return this.#pending;
  }

  /** The next own proposal that was refused here, without a word to the service. */
  pollRefused(): Change | undefined {
    return this.#refusedHere.shift();
  }

  /**
   * The next frame to send. Without a connection it may be thrown away: what has no answer is sent
   * after `welcome`.
   */
  pollOutgoing(): FromParticipant | undefined {
    return this.#outgoing.shift();
  }

  /** Attaches an anchor to the text that is shown at a path, for as long as nobody releases it. */
  anchor(at: string, index: number, isLeft: boolean): Anchor {
    this.#drafts ??= newDrafts();
    return this.#drafts.anchor(at, index, isLeft);
  }

  release(anchor: Anchor): void {
    this.#drafts?.release(anchor);
  }

  /**
   * The frame to enter with: where it was here before, it says up to where. With `asksFields` the
   * welcome says how the fields are declared, unless that is known.
   */
  enter(token?: string, asksFields = false): Enter {
    const { seq: seen, epoch, audience } = this;
    const fields = asksFields && this.fields === undefined ? { fields: true } : {};
    const known = this.#confirmed !== undefined && !this.#diverged ? { seen, epoch, audience } : {};
    const said = Object.keys(this.#said).length > 0 ? { presence: this.#said } : {};
    return {
      type: "enter",
      ...(token === undefined ? {} : { token }),
      client: this.client,
      ...known,
      ...said,
      ...fields,
    };
  }

  /**
   * Notes what this client tells of its participant, and gives the frame that says so; `null` takes
   * a fact back. It is said again by itself after a return.
   */
  say(set: Facts): FromParticipant {
    const said = { ...this.#said, ...set };
    this.#said = Object.fromEntries(Object.entries(said).filter(([, value]) => value !== null));
    return { type: "presence", ...(this.#confirmed === undefined ? {} : { seen: this.seq }), set };
  }

  /** Facts that were said have lapsed: they are not said again after a return. */
  lapse(names: readonly string[]): void {
    this.#said = Object.fromEntries(
      Object.entries(this.#said).filter(([name]) => !names.includes(name)),
    );
  }

  /** Where a gap of the text that everyone agrees on stands in the text that is shown. */
  shownIndex(at: string, index: number): number {
    return this.#drafts?.shownIndex(at, index) ?? index;
  }

  /**
   * Makes a proposal that is pending from now on, and gives its number; `undefined` before the
   * first `welcome`. The frame to send comes from `pollOutgoing`, at once or when those before it
   * are answered. The edits mean what is shown. What is larger than the session takes is refused at
   * once: see `pollRefused`.
   */
  propose(asked: Edit[], more: { gesture?: string; note?: string } = {}): number | undefined {
    if (this.#confirmed === undefined) return undefined;
    const edits = this.#besideElements(asked);
    this.#lastN += 1;
    this.#made += 1;
    const [key, n] = [this.#made, this.#lastN];
    const problem = this.limits && tooLarge(this.limits, edits, more);
    if (problem !== undefined) {
      this.#refusedHere.push({ kind: "refused", n, problem });
      return n;
    }
    let mustWait = this.#pending.some((pending) => pending.frame === undefined);
    for (const edit of edits) {
      const isDropped = this.#isDropped(edit.at);
      const isOvertaken = this.#splice(edit, key);
      if (isOvertaken !== undefined) mustWait ||= isOvertaken || isDropped;
    }
    const pending: Pending = { key, first: n, n, edits, more };
    if (!mustWait) {
      pending.frame = {
        type: "propose",
        n,
        seen: this.seq,
        answered: this.#answered,
        edits,
        ...more,
      };
      this.#outgoing.push(pending.frame);
    }
    this.#pending.push(pending);
    this.#view = undefined;
    return n;
  }

  /**
   * Inserts into lists by index, as inserts behind the element that is shown before it: an id means
   * the same whatever becomes of earlier proposals.
   */
  #besideElements(edits: Edit[]): Edit[] {
    if (!edits.some((edit) => edit.op === "insert" && edit.index !== undefined)) return edits;
    let view = this.#shown() ?? null;
    return edits.map((edit) => {
      const beside = besideElement(view, edit);
      view = applyEdit(view, beside);
      return beside;
    });
  }

  /**
   * Whether an own proposal without an answer drops what is around a text: a text that is there
   * still came anew, and where positions in it belong is known when that is settled.
   */
  #isDropped(at: string): boolean {
    const drops = (edit: Edit) => takesAway(edit) && at.startsWith(`${edit.at}/`);
    return this.#pending.some((pending) => pending.edits.some(drops));
  }

  /**
   * Makes an own splice in the text that is shown; gives whether it was overtaken, or nothing where
   * it is no splice or there is no text.
   */
  #splice(edit: Edit, key: number): boolean | undefined {
    const splice = spliceOf(edit);
    const shown = splice && textAt(this.#shown(), edit.at);
    if (splice === undefined || shown === undefined) return undefined;
    this.#drafts ??= newDrafts();
    return this.#drafts.edit(edit.at, shown, key, splice);
  }

  /** Takes in a frame of the service, and says what it changed. */
  handle(frame: FromService): Change[] {
    const changes = this.#handle(frame);
    return [...changes, ...this.#sendWhatWaited()];
  }

  #handle(frame: FromService): Change[] {
    switch (frame.type) {
      case "welcome":
        return this.#welcome(frame);
      case "settled":
        return this.#updates(frame.updates);
      case "beside":
        this.#beside.set(frame.seq, frame);
        return [];
      case "refused":
        // What came too fast is sent again in a moment, and everything after it: nobody is told.
        if (isTooFast(frame.problem)) return [];
        return isForgotten(frame.n, frame.problem)
          ? this.#beginAnew(frame.problem)
          : this.#refuse(frame.n, frame.problem);
      case "outcome":
        return this.#outcome(frame);
      case "digest":
        return this.#compare(frame.seq);
      case "resync":
        this.#takeState(frame.state, frame.yours);
        this.seq = frame.seq;
        return [{ kind: "repaired", seq: frame.seq, reason: frame.reason }];
      case "status":
        if (this.session !== undefined) this.session = { ...this.session, status: frame.status };
        return [{ kind: "status", status: frame.status, by: frame.by }];
      case "presence":
        this.#company.telling?.tell(frame.of);
        return [{ kind: "presence", of: Object.keys(frame.of) }];
      case "holds":
        this.#company.hold(frame);
        return [{ kind: "holds", change: frame }];
      case "waiting":
        this.checking.add(frame.n);
        return [{ kind: "waiting", n: frame.n }];
      case "roster":
        this.#company.change(frame);
        return [{ kind: "roster", change: frame }];
      default:
        return [];
    }
  }

  /**
   * The service remembers nothing of this client. What was sent before the last welcome may be
   * settled or not, which nobody can tell any more; the rest is not, and is made anew under numbers
   * from 1.
   */
  #beginAnew(problem: Problem): Change[] {
    const isUnsure = ({ sent }: Pending) => sent !== undefined && sent < this.#welcomes;
    const unsure = this.#pending.filter(isUnsure).flatMap(({ frame }) => frame?.n ?? []);
    const changes = unsure.flatMap((n): Change[] =>
      this.#answer(n) ? [{ kind: "refused", n, problem }] : [],
    );
    for (const pending of this.#pending) {
      delete pending.frame;
      delete pending.sent;
    }
    this.#lastN = 0;
    this.#answered = 0;
    this.#refused = 0;
    return [{ kind: "unknown" }, ...changes];
  }

  #compare(seq: number): Change[] {
    const { confirmed } = this;
    if (seq !== this.seq || confirmed === undefined) return [];
    return [{ kind: "compared", seq, confirmed, own: [...this.own] }];
  }

  /** Another state than the one that updates led to. */
  #takeState(all: Json, yours: { [path: string]: Json } = {}): void {
    let state = held(all);
    this.own = new Set(Object.keys(yours));
    for (const at of this.own)
      state = applyEffect(state, { at, op: "show", value: yours[at] ?? null });
    this.#drafts?.takeState(this.#confirmed, state);
    this.#confirmed = state;
    this.#view = undefined;
    this.#diverged = false;
  }

  #welcome(frame: Welcome): Change[] {
    const updates = frame.updates ?? [];
    this.#beside = new Map(frame.beside?.map((beside) => [beside.seq, beside]));
    if (frame.state !== undefined) {
      this.#takeState(frame.state);
      this.seq = frame.seq - updates.length;
    }
    this.#welcomes += 1;
    // Another role may see others of them.
    if (frame.you.role !== this.you?.role) this.fields = undefined;
    this.fields = frame.fields ?? this.fields;
    this.#view = undefined;
    this.you = frame.you;
    this.session = frame.session;
    this.epoch = frame.epoch;
    this.audience = frame.audience ?? 0;
    this.checking.clear();
    // What comes after a snapshot is part of where one arrives, and no news.
    const isArrival = frame.state !== undefined;
    const open = this.unanswered.map(({ n }) => n);
    const news = this.#updates(updates).flatMap((change): Change[] => {
      if (!isArrival || change.kind !== "settled") return [change];
      const { n, seq } = change.update;
      return this.isOwn(change.update) && open.includes(n)
        ? [{ kind: "settled-away", n, seq }]
        : [];
    });
    if (frame.yours !== undefined) this.#takeState(this.confirmed ?? null, frame.yours);
    const changes: Change[] = [{ kind: "welcomed" }, ...news];
    const outcomes = frame.outcomes.flatMap((outcome) => this.#outcome(outcome));
    // Places in it count in the texts as they are now.
    this.#company.arrive(frame);
    this.limits = frame.limits;
    // What was kept over a reload may be more than the service would take without ending the
    // connection.
    const refused = this.#pending.flatMap(({ frame: sent, edits, more }) => {
      const problem = tooLarge(frame.limits, edits, more);
      return sent === undefined || problem === undefined ? [] : this.#refuse(sent.n, problem);
    });
    // A service that was started anew may not know which of them it had refused: what counts
    // positions on top of one of those waits, and so does what counts on top of that.
    const isOnTop = ({ frame }: Pending) =>
      frame === undefined || (frame.answered < this.#refused && frame.n > this.#refused);
    const splices = this.#pending.filter(hasSplice);
    const first = splices.findIndex(isOnTop);
    if (first >= 0) for (const pending of splices.slice(first)) delete pending.frame;
    // Everything without an answer is sent again now, and so need not go out twice.
    this.#outgoing = [];
    return [...changes, ...outcomes, ...refused];
  }

  #updates(updates: Settled[]): Change[] {
    const changes: Change[] = [];
    for (const shown of updates) {
      if (shown.seq <= this.seq) continue;
      const beside = this.#beside.get(shown.seq);
      const own = beside?.effects ?? [];
      const update = { ...shown, ...beside, effects: [...shown.effects, ...own] };
      try {
        this.#apply(update);
        // A place that is hidden again has nothing to be told apart.
        for (const { at, op } of own) if (op === "show") this.own.add(at);
      } catch (error) {
        this.#diverged = true;
        return [
          ...changes,
          { kind: "diverged", why: error instanceof Error ? error.message : String(error) },
        ];
      }
      if (this.isOwn(update)) this.#answer(update.n);
      changes.push({ kind: "settled", update });
    }
    this.#beside.clear();
    return changes;
  }

  #apply(update: Settled): void {
    if (this.#confirmed === undefined) throw new Error("no welcome yet");
    if ((update.first ?? update.seq) > this.seq + 1) throw new Error(`a gap before ${update.seq}`);
    const own = this.isOwn(update)
      ? this.#pending.find((pending) => pending.frame?.n === update.n)
      : undefined;
    // Drafts follow effect by effect: a splice is of the text that the effects before it left. What
    // is replaced is looked at when they have all been applied or a splice comes, so that a record
    // that goes and comes anew is as it is then.
    const splices = new Map<string, Splice[]>();
    let replaced: Effect[] = [];
    const redraft = () => {
      this.#drafts?.settle(splices, own?.key);
      splices.clear();
    };
    const followReplaced = () => {
      for (const effect of replaced) this.#drafts?.replace(effect, this.#confirmed);
      replaced = [];
    };
    for (const effect of update.effects) {
      if (effect.op === "splice") {
        followReplaced();
        splices.set(effect.at, [...(splices.get(effect.at) ?? []), effect]);
      } else {
        redraft();
        replaced.push(effect);
      }
      this.#confirmed = applyEffect(this.#confirmed, effect);
      if (effect.op === "show") this.own.delete(effect.at);
      this.#view = undefined;
    }
    redraft();
    followReplaced();
    this.seq = update.seq;
    this.#company.telling?.follow(update.effects);
  }

  #outcome(outcome: Outcome): Change[] {
    if (outcome.problem !== undefined) return this.#refuse(outcome.n, outcome.problem);
    return this.#answer(outcome.n)
      ? [{ kind: "settled-away", n: outcome.n, seq: outcome.seq ?? 0 }]
      : [];
  }

  #refuse(n: number, problem: Problem): Change[] {
    this.#refused = Math.max(this.#refused, n);
    // What was made on top of a refused proposal is made anew where it can be; so is what the
    // service cannot place any more, since here it is known where it belongs.
    const isPassing = PASSING.includes(problem.type);
    const pending = this.#pending.find(({ frame }) => frame?.n === n);
    if (isPassing && pending !== undefined && hasSplice(pending)) {
      delete pending.frame;
      this.#countAnswered();
      return [];
    }
    return this.#answer(n) ? [{ kind: "refused", n, problem }] : [];
  }

  #answer(n: number): boolean {
    const pending = this.#pending.find(({ frame }) => frame?.n === n);
    this.checking.delete(n);
    this.#pending = this.#pending.filter((one) => one !== pending);
    this.#view = undefined;
    if (pending !== undefined) {
      this.#forget(pending.key);
      this.#dropIdleDrafts();
    }
    this.#countAnswered();
    return pending !== undefined;
  }

  /** The highest number below which nothing is on its way. */
  #countAnswered(): void {
    this.#answered = this.unanswered.reduce(
      (lowest, frame) => Math.min(lowest, frame.n - 1),
      this.#lastN,
    );
  }

  /** Takes what is left of an own proposal out of the drafts. */
  #forget(key: number): void {
    this.#drafts?.forget(key);
    this.#view = undefined;
  }

  /** Lets go of the drafts of texts in which nothing is pending. */
  #dropIdleDrafts(): void {
    this.#drafts?.keepOnly((at) =>
      this.#pending.some((pending) => pending.edits.some((edit) => edit.at === at)),
    );
  }

  /**
   * When nothing is on its way any more, what waited means what it says among what everyone agrees
   * on.
   */
  #sendWhatWaited(): Change[] {
    if (this.#pending.some((pending) => pending.frame !== undefined)) return [];
    const waited = this.#pending;
    this.#pending = [];
    this.#drafts?.setOvertaken(false);
    const changes = waited.map((pending): Change => {
      const edits = this.#madeAnew(pending);
      this.#lastN += 1;
      const n = this.#lastN;
      if (edits.length === 0) {
        this.#forget(pending.key);
        return { kind: "moot", n: pending.n };
      }
      pending.frame = {
        type: "propose",
        n,
        seen: this.seq,
        answered: this.#answered,
        edits,
        ...pending.more,
      };
      this.#outgoing.push(pending.frame);
      this.#pending.push(pending);
      const was = pending.n;
      pending.n = n;
      return { kind: "made-anew", was, n };
    });
    this.#dropIdleDrafts();
    this.#countAnswered();
    return changes;
  }

  /**
   * The edits of a proposal that waited, its splices where they belong now. Of each text the
   * splices stand together.
   */
  #madeAnew(pending: Pending): Edit[] {
    return this.#drafts?.madeAnew(pending.key, pending.edits) ?? pending.edits;
  }
}

const NOTHING_TOLD: ReadonlyMap<string, ReadonlyMap<string, Facts>> = new Map();

/** Refusals of splices that the replica answers by making them anew. */
const PASSING = ["urn:rendel:problem:follows-refused", "urn:rendel:problem:too-old"];

/** The splice that an edit is. */
function spliceOf(edit: Edit): Splice | undefined {
  if (edit.op !== "splice") return undefined;
  const { index = 0, delete: gone = 0, insert = "" } = edit;
  return { index, delete: gone, insert };
}

/**
 * An insert by index as one behind the element that is shown before it; any other edit as it is.
 */
function besideElement(view: Json, edit: Edit): Edit {
  const after = afterIndex(view, edit);
  if (edit.op !== "insert" || after === undefined) return edit;
  const { index: _index, ...rest } = edit;
  return { ...rest, after };
}

function hasSplice(pending: Pending): boolean {
  return pending.edits.some((edit) => spliceOf(edit) !== undefined);
}
