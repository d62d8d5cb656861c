import { applyEffect, valueAt } from "./apply.ts";
import { canonical } from "./canonical.ts";
import type {
  Cue,
  CueFor,
  Edit,
  Facts,
  FromParticipant,
  FromService,
  Json,
  Problem,
  Propose,
  Welcome,
} from "./frame.ts";
import { isTooFast } from "./frame.ts";
import type { Claim } from "./keeper.ts";
import { type Codec, type Ears, JSON_CODEC, type Link, openSocket } from "./link.ts";
import { Outbox } from "./outbox.ts";
import { type Change, Replica } from "./replica.ts";
import { newSaying, type Saying } from "./telling.ts";
import { uuid7 } from "./uuid.ts";

/**
 * Where a connection stands. `waiting`: nothing is known of the session yet. `catching-up`: it is
 * back, and what was missed is on its way. `ended` is final: trying again would fail the same way.
 */
export type Standing = "waiting" | "present" | "catching-up" | "away" | "offline" | "ended";

/**
 * A token, or a function that gets one: called at each return, and again when its token is refused.
 * One that throws, rejects or takes longer than ten seconds is called again after a wait. The
 * connection ends when three tokens in a row are refused.
 */
export type TokenSource = string | (() => Promise<string>);

export type ConnectionEvents = {
  /** The replica changed. */
  changed?: (change: Change) => void;
  /** The standing changed, or what is unanswered, or the latency. */
  standing?: () => void;
  /** A transient message. */
  cued?: (cue: Cue) => void;
  /** The service says something that concerns no single proposal. */
  noticed?: (problem: Problem) => void;
};

const FIRST_WAIT = 200;
const LONGEST_WAIT = 5_000;
const BEAT = 5_000;
/** A way over which nothing has come for so long leads nowhere. */
const OPEN_WITHIN = 6_000;
/** How long a function may take to get a token, in milliseconds. */
const TOKEN_WITHIN = 10_000;
/** Refused tokens in a row after which there is no use in asking for another. */
const REFUSED_TOKENS = 3;
/** What is pending is kept at most this often. */
const KEEP = 200;
/** Problems that pass by themselves. */
const PASSING = ["slow", "shutting-down", "unavailable", "silent", "crowded"];

const unavailable = (detail: string): Problem => ({
  type: "urn:rendel:problem:unavailable",
  title: "Away",
  status: 503,
  detail,
});

/** What is answered to what was asked while there was no connection. */
export const AWAY = unavailable("There is no connection.");

/**
 * A participant's connection with its replica. It comes back by itself and sends again what was not
 * answered.
 */
export class Connection {
  readonly replica: Replica;
  standing: Standing = "waiting";
  /** Why it is away or has ended. */
  problem: Problem | undefined;
  /** The last pong: when its ping was sent, and the service's time. It came `latency` after that. */
  pong: { sent: number; time: number } | undefined;
  /** What is said of each proposal that does not say it itself. */
  more?: { gesture?: string };
  /** Hears each frame before anybody else. */
  heard: ((frame: FromService) => void) | undefined;
  /** The way to the service and back, in milliseconds. */
  latency: number | undefined;
  #session: string;
  #token: TokenSource | undefined;
  /** A guest's token, kept with what is pending. */
  #guest: { token?: string } = {};
  /** The token of this connection. */
  #shown: string | undefined;
  /** Tokens of a function that were refused since the last welcome. */
  #refusedTokens = 0;
  #events: ConnectionEvents;
  #link: Link | undefined;
  /** Ways in a row that led nowhere. A WebSocket may be blocked, so every other is a line then. */
  #blocked = 0;
  #trying: ReturnType<typeof setTimeout> | undefined;
  /** Counts the ways that were tried: what belongs to an earlier one is nothing to us. */
  #tries = 0;
  #wait = FIRST_WAIT;
  #timer: ReturnType<typeof setTimeout> | undefined;
  #beat: ReturnType<typeof setInterval> | undefined;
  #heard = 0;
  #pinged = 0;
  #codec: Codec;
  #claim: Claim | undefined;
  #keeping: ReturnType<typeof setTimeout> | undefined;
  #isKept = false;
  #keepsState: boolean;
  #asksFields: boolean;
  #outbox = new Outbox((frames) => this.#sendProposals(frames));
  /** What is told of one's participant, once something is. */
  #saying: Saying | undefined;
  #asked = 0;
  #asks = new Map<number, (problem: Problem | undefined) => void>();

  /**
   * With a `claim` what is pending outlives the page; its client is then the connection's. Without
   * either the client is a new one.
   */
  constructor(options: {
    server: string;
    session: string;
    /** Left out by a guest, where the charter lets guests in. */
    token?: TokenSource | undefined;
    client?: string;
    claim?: Claim | undefined;
    /** Keeps the state of the last moment too, to be shown after a reload without the service. */
    keepState?: boolean;
    /** Whether to ask how the fields are declared: see `Replica.fields`. */
    asksFields?: boolean;
    codec?: Codec;
    events?: ConnectionEvents;
  }) {
    this.#session = `${options.server}/v1/sessions/${encodeURIComponent(options.session)}`;
    this.#token = options.token;
    this.#events = options.events ?? {};
    this.#codec = options.codec ?? JSON_CODEC;
    this.#claim = options.claim;
    this.#keepsState = options.keepState ?? false;
    this.#asksFields = options.asksFields ?? false;
    const kept = options.claim?.kept;
    this.#isKept = kept !== undefined;
    const client = options.claim?.client ?? options.client ?? uuid7();
    if (kept?.token !== undefined && this.#token === undefined) {
      this.#token = kept.token;
      this.#guest = { token: kept.token };
    }
    this.replica = kept === undefined ? new Replica(client) : Replica.restore(kept);
  }

  /** Begins to enter, and follows what the browser says of the network and of the page. */
  start(): void {
    this.#watchPage("addEventListener");
    this.#connect();
  }

  #watchPage(how: "addEventListener" | "removeEventListener"): void {
    for (const [name, hear] of this.#page) globalThis[how]?.(name, hear);
    globalThis.document?.[how]("visibilitychange", this.#wake);
  }

  readonly #page: [string, () => void][] = [
    ["offline", () => this.#link !== undefined && this.#lost("offline")],
    ["online", () => this.#return()],
    ["pageshow", () => this.#wake()],
    ["pagehide", () => this.#keeping !== undefined && this.#write()],
  ];

  /** The page is looked at again: what slept for longer than a beat or two is likely gone. */
  readonly #wake = () => {
    if (globalThis.document?.visibilityState === "hidden") return;
    if (this.standing === "present" && performance.now() - this.#heard > 2 * BEAT)
      this.#lost("the page slept");
    this.#return();
  };

  /** Comes back at once in place of when its time has come. */
  #return(): void {
    if (this.#link !== undefined || this.standing === "offline" || this.standing === "ended")
      return;
    clearTimeout(this.#timer);
    this.#wait = FIRST_WAIT;
    this.#connect();
  }

  /**
   * Proposes edits; without a connection they stay pending and are sent on return. Gives the
   * proposal's number, `undefined` before the first `welcome` and after the end. However many there
   * are, they are sent no faster than the session takes them.
   */
  propose(edits: Edit[], more: { gesture?: string; note?: string } = {}): number | undefined {
    if (this.standing === "ended") return undefined;
    const n = this.replica.propose(edits, { ...this.more, ...more });
    if (n === undefined) return undefined;
    const refused = this.replica.pollRefused();
    // Told once its number is known.
    if (refused !== undefined) queueMicrotask(() => this.#events.changed?.(refused));
    this.#sendOutgoing();
    this.#keep(true);
    this.#events.standing?.();
    return n;
  }

  /**
   * Tells something of its participant; `null` takes a fact back. It may be called as often as one
   * likes: what is said meanwhile is sent as the newest, at the charter's rate.
   */
  say(set: Facts): void {
    this.#saying ??= newSaying(
      this.replica,
      () => this.standing === "present",
      (frame) => this.send(frame),
    );
    this.#saying.say(set);
  }

  /**
   * Takes or renews a hold; gives the problem where it is not to be had. `over` takes it from
   * somebody else.
   */
  hold(at: string, more: { for?: number; over?: boolean } = {}): Promise<Problem | undefined> {
    return this.#ask((n) => ({ type: "hold", n, at, ...more }));
  }

  release(at: string): Promise<Problem | undefined> {
    return this.#ask((n) => ({ type: "release", n, at }));
  }

  cue(name: string, more: { data?: Json; to?: CueFor } = {}): Promise<Problem | undefined> {
    return this.#ask((n) => ({ type: "cue", n, name, ...more }));
  }

  /** Goes on with a new token, over this connection and at every return. */
  renew(token: string): Promise<Problem | undefined> {
    if (typeof this.#token !== "function") this.#token = token;
    return this.#ask((n) => ({ type: "renew", n, token }));
  }

  /** What is asked without a connection, and what a loss leaves unanswered, is not done. */
  #ask(frame: (n: number) => FromParticipant): Promise<Problem | undefined> {
    this.#asked += 1;
    const n = this.#asked;
    if (this.standing !== "present") return Promise.resolve(AWAY);
    return new Promise((answer) => {
      this.#asks.set(n, answer);
      this.send(frame(n));
    });
  }

  /** Cuts the connection as a lost network would, until `goOnline`. */
  goOffline(): void {
    clearTimeout(this.#timer);
    this.#drop();
    this.#stand("offline");
  }

  goOnline(): void {
    if (this.standing === "offline") this.#connect();
  }

  /** Leaves for good. Doing it twice, or after the end, does no harm. */
  leave(): void {
    if (this.standing !== "ended") {
      this.send({ type: "leave" });
      this.#end();
    }
    this.#write();
    this.#release();
  }

  #release(): void {
    clearTimeout(this.#keeping);
    this.#claim?.release();
    this.#claim = undefined;
  }

  /**
   * It is over: nothing is tried again. With a problem, what is pending has been refused, and no
   * later page may send it.
   */
  #end(problem?: Problem): void {
    clearTimeout(this.#timer);
    this.#saying?.stop();
    this.#watchPage("removeEventListener");
    this.#drop();
    this.problem = problem;
    if (problem !== undefined) {
      this.#claim?.keep(undefined);
      this.#release();
    }
    this.#stand("ended");
  }

  /**
   * What is pending is written beside the page, so that a reload does not lose it; what is answered
   * is forgotten there.
   */
  #keep(isNew = false): void {
    const isNeeded = this.replica.pending.length > 0 || this.#keepsState;
    if (this.#claim === undefined || (!isNeeded && !this.#isKept)) return;
    // What is new is kept at once: the page may be loaded again the next moment.
    if (isNew) clearTimeout(this.#keeping);
    else if (this.#keeping !== undefined) return;
    this.#keeping = setTimeout(() => this.#write(), this.#isKept && !isNew ? KEEP : 0);
  }

  #write(): void {
    clearTimeout(this.#keeping);
    this.#keeping = undefined;
    const isNeeded = this.replica.pending.length > 0 || this.#keepsState;
    const kept = isNeeded ? this.replica.kept() : undefined;
    if (isNeeded || this.#isKept) this.#claim?.keep(kept && { ...kept, ...this.#guest });
    this.#isKept = isNeeded;
  }

  #connect(): void {
    if (this.standing !== "away")
      this.#stand(this.replica.confirmed === undefined ? "waiting" : "away");
    this.#tries += 1;
    const tries = this.#tries;
    const ask = this.#token;
    if (typeof ask !== "function") {
      this.#open(ask);
      return;
    }
    const got = (token: unknown, why = token) => {
      if (tries !== this.#tries) return;
      clearTimeout(this.#trying);
      if (typeof token === "string") this.#open(token);
      else this.#lost(`no token: ${why}`);
    };
    this.#trying = setTimeout(got, TOKEN_WITHIN, null, "too late");
    // Also one that throws at once rejects here.
    (async () => ask())().then(got, (error) => got(null, error));
  }

  /** Opens a way and enters over it. Where one leads nowhere the other is tried. */
  #open(token: string | undefined): void {
    this.#shown = token;
    const tries = this.#tries;
    const isLine = this.#blocked >= 2 && this.#blocked % 2 === 0;
    let isOpen = false;
    let hasHeard = false;
    const isOurs = () => tries === this.#tries && this.standing !== "ended";
    const ears: Ears = {
      opened: () => {
        isOpen = true;
        if (isOurs()) this.#enter();
      },
      received: (frame) => {
        if (!isOurs()) return;
        hasHeard = true;
        if (!isLine) this.#blocked = 0;
        clearTimeout(this.#trying);
        this.#heard = performance.now();
        this.receive(frame);
      },
      lost: () => {
        if (!isOurs()) return;
        if (!isOpen) this.#blocked += 1;
        this.#lost();
      },
    };
    this.#trying = setTimeout(() => {
      if (hasHeard || !isOurs()) return;
      // Something may swallow all that goes over it.
      if (isOpen) this.#blocked += 2;
      ears.lost();
    }, OPEN_WITHIN);
    const socket = (ears: Ears) => openSocket(this.#session, this.#codec, ears);
    if (!isLine) {
      this.#link = socket(ears);
      return;
    }
    import("./line.ts").then(({ openLine, whenSocketsPass }) => {
      if (!isOurs()) return;
      this.#link = openLine(this.#session, ears);
      whenSocketsPass(socket, isOurs, () => {
        this.#blocked = 0;
        this.#lost("a socket is through");
        this.#return();
      });
    }, ears.lost);
  }

  #enter(): void {
    this.#saying?.enter();
    this.send(this.replica.enter(this.#shown, this.#asksFields));
    if (this.replica.confirmed !== undefined) this.#stand("catching-up");
  }

  /** @internal */
  receive(frame: FromService): void {
    this.heard?.(frame);
    if (frame.type === "pong") {
      this.pong = frame;
      this.latency = performance.now() - frame.sent;
      this.#events.standing?.();
    }
    if (frame.type === "answer") {
      this.#asks.get(frame.n)?.(frame.problem);
      this.#asks.delete(frame.n);
    }
    if (frame.type === "cue") {
      const { type: _, ...cue } = frame;
      this.#events.cued?.(cue);
    }
    // A guest comes back as the same guest.
    if (frame.type === "welcome" && frame.token !== undefined) {
      this.#token = frame.token;
      this.#guest = { token: frame.token };
    }
    if (frame.type === "notice") this.#events.noticed?.(frame.problem);
    if (frame.type === "bye") this.#bye(frame.problem);
    const changes = this.replica.handle(frame);
    if (frame.type === "refused" && isTooFast(frame.problem))
      this.#outbox.takeBack(frame.n, frame.problem.wait_ms ?? 1_000, this.replica.unanswered);
    if (frame.type === "welcome") this.#welcomed(frame.limits);
    else this.#sendOutgoing();
    for (const change of changes) {
      if (change.kind === "compared") this.#tellDigest(change);
      else this.#events.changed?.(change);
    }
    if (changes.length === 0) return;
    this.#keep();
    for (const { kind } of changes)
      if (kind === "diverged" || kind === "unknown") this.#lost(`the replica is ${kind}`);
    this.#events.standing?.();
  }

  /** Asks for a pong. */
  ping(): void {
    this.#pinged = performance.now();
    this.send({ type: "ping", sent: this.#pinged });
  }

  #tellDigest({ seq, confirmed, own }: Change & { kind: "compared" }): void {
    const tries = this.#tries;
    import("./digests.ts")
      .then((it) => it.digestFrame(seq, confirmed, own, canonical, valueAt, applyEffect))
      .then(
        (frame) => tries === this.#tries && this.send(frame),
        // It is asked for again.
        () => {},
      );
  }

  #welcomed(limits: Welcome["limits"]): void {
    this.#wait = FIRST_WAIT;
    this.#refusedTokens = 0;
    this.problem = undefined;
    while (this.replica.pollOutgoing() !== undefined) {}
    this.#outbox.begin(limits, this.replica.answered, this.replica.unanswered);
    clearInterval(this.#beat);
    const beat = () => {
      // A peer from which nothing had come for so long at the last ping is gone, though nobody said
      // so. Since then is no measure: the timers of a page that nobody looks at are late.
      if (this.#pinged - this.#heard > 2 * BEAT) return this.#lost();
      this.ping();
    };
    this.#beat = setInterval(beat, BEAT);
    beat();
    this.#stand("present");
    this.#saying?.welcome(limits);
  }

  #bye(problem: Problem): void {
    const name = problem.type.split(":").at(-1) ?? "";
    // A function may have given the text of an error page once: it is asked again first.
    const canRenew =
      name.endsWith("-token") &&
      typeof this.#token === "function" &&
      ++this.#refusedTokens < REFUSED_TOKENS;
    if (PASSING.includes(name) || canRenew) this.#lost(problem.detail, problem);
    else this.#end(problem);
  }

  /** Waits grow, and are spread so that those who were lost together do not come back together. */
  #lost(why?: string, problem = why ? unavailable(why) : AWAY): void {
    this.#drop();
    this.problem = problem;
    this.#stand(this.replica.confirmed === undefined ? "waiting" : "away");
    const wait = this.#wait * (0.5 + Math.random() / 2);
    this.#wait = Math.min(this.#wait * 1.5, LONGEST_WAIT);
    clearTimeout(this.#timer);
    this.#timer = setTimeout(() => this.#connect(), wait);
  }

  #drop(): void {
    clearInterval(this.#beat);
    clearTimeout(this.#trying);
    this.#outbox.clear();
    this.#tries += 1;
    const link = this.#link;
    this.#link = undefined;
    link?.close();
    for (const answer of this.#asks.values()) answer(AWAY);
    this.#asks.clear();
  }

  /** What the replica has to send; without a connection it is sent after the next `welcome`. */
  #sendOutgoing(): void {
    for (;;) {
      const frame = this.replica.pollOutgoing();
      if (frame === undefined) break;
      if (frame.type !== "propose") this.send(frame);
      // Without a connection it is sent after the next `welcome`.
      else if (this.standing === "present") this.#outbox.put(frame);
    }
    this.#outbox.answered(this.replica.answered);
  }

  #sendProposals(frames: Propose[]): void {
    for (const frame of frames) this.replica.noteSent(frame.n);
    const [first] = frames;
    if (frames.length > 1)
      this.send({ type: "proposals", proposals: frames.map(({ type: _, ...body }) => body) });
    else if (first !== undefined) this.send(first);
  }

  /** @internal */
  send(frame: FromParticipant): void {
    if (this.#link?.isOpen()) this.#link.send(frame);
  }

  #stand(standing: Standing): void {
    this.standing = standing;
    this.#events.standing?.();
  }
}
