import { applyEdit, applyEffect } from "./apply.ts";
import { digest } from "./canonical.ts";
import type {
  Edit,
  Enter,
  FromService,
  Json,
  Outcome,
  Participant,
  Problem,
  Propose,
  Roster,
  Settled,
  Welcome,
} from "./frame.ts";

/** What a frame of the service changed. */
export type Change =
  | { kind: "welcomed" }
  | { kind: "settled"; update: Settled }
  | { kind: "refused"; n: number; problem: Problem }
  | { kind: "settled-away"; n: number; seq: number }
  | { kind: "roster"; change: Roster }
  | { kind: "diverged"; why: string };

/**
 * The confirmed state plus one's own pending proposals.
 *
 * Nothing is known until the first `welcome`: `view` is `undefined` then, which is not the same as an empty state.
 */
export class Replica {
  readonly client: string;
  you: Welcome["you"] | undefined;
  session: Welcome["session"] | undefined;
  epoch = 0;
  seq = 0;
  roster: Participant[] = [];
  #confirmed: Json | undefined;
  #view: Json | undefined;
  #pending: Propose[] = [];
  #lastN = 0;
  #answered = 0;
  #diverged = false;

  constructor(client: string) {
    this.client = client;
  }

  /** The state that everyone agrees on, `undefined` before the first `welcome`. */
  get confirmed(): Json | undefined {
    return this.#confirmed;
  }

  /** The confirmed state with one's own pending edits over it: what a user is shown. */
  get view(): Json | undefined {
    if (this.#view === undefined && this.#confirmed !== undefined) {
      this.#view = this.#pending.flatMap((frame) => frame.edits).reduce(applyEdit, this.#confirmed);
    }
    return this.#view;
  }

  /** The proposals without an answer, in order: after a `welcome` they are sent again. */
  get unanswered(): readonly Propose[] {
    return this.#pending;
  }

  /** The SHA-256 of the confirmed state as canonical JSON, to compare with other replicas at the same `seq`. */
  digest(): string | undefined {
    return this.#confirmed === undefined ? undefined : digest(this.#confirmed);
  }

  /** The frame to enter with: where it was here before, it says up to where. */
  enter(token?: string): Enter {
    const known = this.#confirmed !== undefined && !this.#diverged ? { seen: this.seq, epoch: this.epoch } : {};
    return { type: "enter", ...(token === undefined ? {} : { token }), client: this.client, ...known };
  }

  /** Makes a proposal that is pending from now on; `undefined` before the first `welcome`. */
  propose(edits: Edit[], more: { gesture?: string; note?: string } = {}): Propose | undefined {
    if (this.#confirmed === undefined) return undefined;
    this.#lastN += 1;
    const frame: Propose = {
      type: "propose",
      n: this.#lastN,
      seen: this.seq,
      answered: this.#answered,
      edits,
      ...more,
    };
    this.#pending.push(frame);
    this.#view = undefined;
    return frame;
  }

  /** Takes in a frame of the service, and says what it changed. */
  handle(frame: FromService): Change[] {
    switch (frame.type) {
      case "welcome":
        return this.#welcome(frame);
      case "settled":
        return this.#updates(frame.updates);
      case "refused":
        return this.#refuse(frame.n, frame.problem);
      case "outcome":
        return this.#outcome(frame);
      case "roster":
        this.#changeRoster(frame);
        return [{ kind: "roster", change: frame }];
      default:
        return [];
    }
  }

  #welcome(frame: Welcome): Change[] {
    const updates = frame.updates ?? [];
    if (frame.state !== undefined) {
      this.#confirmed = frame.state;
      this.#view = undefined;
      this.seq = frame.seq - updates.length;
      this.#diverged = false;
    }
    this.you = frame.you;
    this.session = frame.session;
    this.epoch = frame.epoch;
    this.roster = frame.roster;
    const changes: Change[] = [{ kind: "welcomed" }, ...this.#updates(updates)];
    return changes.concat(frame.outcomes.flatMap((outcome) => this.#outcome(outcome)));
  }

  #updates(updates: Settled[]): Change[] {
    const changes: Change[] = [];
    for (const update of updates) {
      if (update.seq <= this.seq) continue;
      try {
        this.#apply(update);
      } catch (error) {
        this.#diverged = true;
        return [...changes, { kind: "diverged", why: error instanceof Error ? error.message : String(error) }];
      }
      if (update.client === this.client) this.#answer(update.n);
      changes.push({ kind: "settled", update });
    }
    return changes;
  }

  #apply(update: Settled): void {
    if (this.#confirmed === undefined) throw new Error("an update came before the welcome");
    if (update.seq !== this.seq + 1) throw new Error(`update ${update.seq} came after ${this.seq}`);
    this.#confirmed = update.effects.reduce(applyEffect, this.#confirmed);
    this.#view = undefined;
    this.seq = update.seq;
  }

  #outcome(outcome: Outcome): Change[] {
    if (outcome.problem !== undefined) return this.#refuse(outcome.n, outcome.problem);
    return this.#answer(outcome.n) ? [{ kind: "settled-away", n: outcome.n, seq: outcome.seq ?? 0 }] : [];
  }

  #refuse(n: number, problem: Problem): Change[] {
    return this.#answer(n) ? [{ kind: "refused", n, problem }] : [];
  }

  #answer(n: number): boolean {
    const before = this.#pending.length;
    this.#pending = this.#pending.filter((frame) => frame.n !== n);
    this.#view = undefined;
    // The highest number below which nothing is open.
    this.#answered = this.#pending[0] === undefined ? this.#lastN : this.#pending[0].n - 1;
    return this.#pending.length < before;
  }

  #changeRoster(change: Roster): void {
    const gone = new Set(change.left ?? []);
    const shown = [...(change.joined ?? []), ...(change.changed ?? [])];
    const kept = this.roster.filter((here) => !gone.has(here.id) && shown.every((one) => one.id !== here.id));
    this.roster = [...kept, ...shown].sort((one, other) => (one.id < other.id ? -1 : 1));
  }
}
