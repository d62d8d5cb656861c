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
import { Outbox } from "./outbox.ts";
import { type Change, Replica } from "./replica.ts";

/**
 * Where a connection stands. `waiting`: nothing is known of the session yet. `catching-up`: it is
 * back, and what was missed is on its way. `ended` is final: trying again would fail the same way.
 */
export type Standing = "waiting" | "present" | "catching-up" | "away" | "offline" | "ended";

/** How frames are written. */
export type Codec = {
  subprotocol: string;
  encode: (frame: FromParticipant) => string | Uint8Array<ArrayBuffer>;
  decode: (data: string | ArrayBuffer) => FromService;
};

export const JSON_CODEC: Codec = {
  subprotocol: "rendel.v1.json",
  encode: (frame) => JSON.stringify(frame),
  decode: (data) => JSON.parse(String(data)) as FromService,
};

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
/** A peer from which nothing came for so long is gone, though nobody said so. */
const SILENCE = 15_000;
/** What is pending is kept at most this often. */
const KEEP = 200;
/** Problems that pass by themselves. */
const PASSING = ["slow", "shutting-down", "unavailable", "silent", "crowded"];

/** What is answered to what was asked while there was no connection. */
const AWAY: Problem = {
  type: "urn:rendel:problem:unavailable",
  title: "Away",
  status: 503,
  detail: "There is no connection just now. Ask again when it is back.",
};

const data = (data: Json | undefined) => (data === undefined ? {} : { data });

/**
 * A participant's connection with its replica. It comes back by itself and sends again what was not
 * answered.
 */
export class Connection {
  readonly replica: Replica;
  standing: Standing = "waiting";
  /** Why it is away or has ended. */
  why: string | undefined;
  /** The way to the service and back, in milliseconds. */
  latency: number | undefined;
  #url: string;
  #token: string | undefined;
  #events: ConnectionEvents;
  #socket: WebSocket | undefined;
  #wait = FIRST_WAIT;
  #timer: ReturnType<typeof setTimeout> | undefined;
  #beat: ReturnType<typeof setInterval> | undefined;
  #heard = 0;
  #codec: Codec;
  #claim: Claim | undefined;
  #keeping: ReturnType<typeof setTimeout> | undefined;
  #isKept = false;
  #saying: Facts | undefined;
  #said = 0;
  #saidAt = new Map<string, number>();
  #lapses: { [fact: string]: number } = {};
  #sayEvery = 33;
  #sayTimer: ReturnType<typeof setTimeout> | undefined;
  #outbox = new Outbox((frames) => this.#sendProposals(frames));
  #asked = 0;
  #asks = new Map<number, (problem: Problem | undefined) => void>();

  /** With a `claim` what is pending outlives the page; its client is then the connection's. */
  constructor(options: {
    server: string;
    session: string;
    /** Left out by a guest, where the charter lets guests in. */
    token?: string;
    client?: string;
    claim?: Claim;
    codec?: Codec;
    events?: ConnectionEvents;
  }) {
    this.#url = `${options.server.replace(/^http/, "ws")}/v1/sessions/${encodeURIComponent(options.session)}/connect`;
    this.#token = options.token;
    this.#events = options.events ?? {};
    this.#codec = options.codec ?? JSON_CODEC;
    this.#claim = options.claim;
    const kept = options.claim?.kept;
    this.#isKept = kept !== undefined;
    const client = options.claim?.client ?? options.client;
    if (client === undefined) throw new Error("a connection needs a client or a claim");
    this.replica = kept === undefined ? new Replica(client) : Replica.restore(kept);
  }

  /** Begins to enter. */
  start(): void {
    this.#connect();
  }

  /**
   * Proposes edits; without a connection they stay pending and are sent on return. Gives the
   * proposal's number, `undefined` before the first `welcome` and after the end. However many there
   * are, they are sent no faster than the session takes them.
   */
  propose(edits: Edit[], more: { gesture?: string; note?: string } = {}): number | undefined {
    if (this.standing === "ended") return undefined;
    const n = this.replica.propose(edits, more);
    if (n === undefined) return undefined;
    const refused = this.replica.pollRefused();
    // Told once its number is known.
    if (refused !== undefined) queueMicrotask(() => this.#events.changed?.(refused));
    this.#sendOutgoing();
    this.#keep();
    this.#events.standing?.();
    return n;
  }

  /**
   * Tells something of its participant; `null` takes a fact back. It may be called as often as one
   * likes: what is said meanwhile is sent as the newest, at the charter's rate.
   */
  say(set: Facts): void {
    this.#saying = { ...this.#saying, ...set };
    if (this.#sayTimer !== undefined) return;
    const wait = Math.max(0, this.#said + this.#sayEvery - performance.now());
    this.#sayTimer = setTimeout(() => {
      this.#sayTimer = undefined;
      // Otherwise it is said with the next `enter`, or after the `welcome` that is waited for.
      if (this.standing === "present") this.#send(this.#takeSaying());
    }, wait);
  }

  /** What waits to be said, from now on as what was said. */
  #takeSaying(): FromParticipant {
    this.#said = performance.now();
    for (const name of Object.keys(this.#saying ?? {})) this.#saidAt.set(name, this.#said);
    const frame = this.replica.say(this.#saying ?? {});
    this.#saying = undefined;
    return frame;
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
    this.#token = token;
    return this.#ask((n) => ({ type: "renew", n, token }));
  }

  /** What is asked without a connection, and what a loss leaves unanswered, is not done. */
  #ask(frame: (n: number) => FromParticipant): Promise<Problem | undefined> {
    this.#asked += 1;
    const n = this.#asked;
    if (this.standing !== "present") return Promise.resolve(AWAY);
    return new Promise((answer) => {
      this.#asks.set(n, answer);
      this.#send(frame(n));
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

  /** Leaves for good. */
  leave(): void {
    clearTimeout(this.#timer);
    clearTimeout(this.#sayTimer);
    this.#send({ type: "leave" });
    this.#drop();
    this.#stand("ended");
    clearTimeout(this.#keeping);
    this.#write();
    this.#claim?.release();
  }

  /**
   * What is pending is written beside the page, so that a reload does not lose it; what is answered
   * is forgotten there.
   */
  #keep(): void {
    if (this.#claim === undefined || (this.replica.pending.length === 0 && !this.#isKept)) return;
    this.#keeping ??= setTimeout(() => this.#write(), this.#isKept ? KEEP : 0);
  }

  #write(): void {
    this.#keeping = undefined;
    const isPending = this.replica.pending.length > 0;
    if (isPending || this.#isKept) this.#claim?.keep(isPending ? this.replica.kept() : undefined);
    this.#isKept = isPending;
  }

  #connect(): void {
    if (this.standing !== "away")
      this.#stand(this.replica.confirmed === undefined ? "waiting" : "away");
    const socket = new WebSocket(this.#url, this.#codec.subprotocol);
    socket.binaryType = "arraybuffer";
    this.#socket = socket;
    socket.onopen = () => {
      const hasLapsed = ([name, after]: [string, number]) =>
        performance.now() - (this.#saidAt.get(name) ?? 0) >= after;
      const lapsed = Object.entries(this.#lapses).filter(hasLapsed);
      this.replica.lapse(lapsed.map(([name]) => name));
      if (this.#saying !== undefined) this.#takeSaying();
      this.#send(this.replica.enter(this.#token));
      if (this.replica.confirmed !== undefined) this.#stand("catching-up");
    };
    socket.onmessage = (message) => {
      this.#heard = performance.now();
      if (socket === this.#socket)
        this.#receive(this.#codec.decode(message.data as string | ArrayBuffer));
    };
    socket.onclose = () => {
      if (socket === this.#socket) this.#lost("the connection was lost");
    };
  }

  #receive(frame: FromService): void {
    if (frame.type === "pong") {
      this.latency = performance.now() - frame.sent;
      this.#events.standing?.();
    }
    if (frame.type === "answer") {
      this.#asks.get(frame.n)?.(frame.problem);
      this.#asks.delete(frame.n);
    }
    if (frame.type === "cue")
      this.#events.cued?.({ name: frame.name, by: frame.by, ...data(frame.data) });
    if (frame.type === "welcome") {
      this.#sayEvery = 1_000 / (frame.limits.presence_per_second ?? 30);
      this.#lapses = frame.limits.presence_lapses_ms ?? {};
      // A guest comes back as the same guest.
      this.#token = frame.token ?? this.#token;
    }
    if (frame.type === "notice") this.#events.noticed?.(frame.problem);
    if (frame.type === "bye") this.#bye(frame.problem);
    const changes = this.replica.handle(frame);
    if (frame.type === "refused" && isTooFast(frame.problem))
      this.#outbox.takeBack(frame.n, frame.problem.wait_ms ?? 1_000, this.replica.unanswered);
    if (frame.type === "welcome") this.#welcomed(frame.limits);
    else this.#sendOutgoing();
    for (const change of changes) this.#events.changed?.(change);
    if (changes.length > 0) this.#keep();
    if (changes.some((change) => change.kind === "diverged"))
      this.#lost("this replica differs and asks for a snapshot");
    if (changes.some((change) => change.kind === "unknown"))
      this.#lost("the service remembers nothing of this client");
    if (changes.length > 0) this.#events.standing?.();
  }

  #welcomed(limits: Welcome["limits"]): void {
    this.#wait = FIRST_WAIT;
    this.why = undefined;
    while (this.replica.pollOutgoing() !== undefined) {}
    this.#outbox.begin(limits, this.replica.answered, this.replica.unanswered);
    clearInterval(this.#beat);
    const beat = () => {
      if (performance.now() - this.#heard > SILENCE)
        this.#lost("nothing was heard from the service");
      else this.#send({ type: "ping", sent: performance.now() });
    };
    this.#beat = setInterval(beat, BEAT);
    beat();
    this.#stand("present");
    if (this.#saying !== undefined) this.say({});
  }

  #bye(problem: Problem): void {
    const name = problem.type.split(":").at(-1) ?? "";
    if (PASSING.includes(name)) {
      this.#lost(problem.detail);
    } else {
      this.#drop();
      this.why = problem.detail;
      this.#stand("ended");
    }
  }

  /** Waits grow, and are spread so that those who were lost together do not come back together. */
  #lost(why: string): void {
    this.#drop();
    this.why = why;
    this.#stand(this.replica.confirmed === undefined ? "waiting" : "away");
    const wait = this.#wait * (0.5 + Math.random() / 2);
    this.#wait = Math.min(this.#wait * 1.5, LONGEST_WAIT);
    this.#timer = setTimeout(() => this.#connect(), wait);
  }

  #drop(): void {
    clearInterval(this.#beat);
    this.#outbox.clear();
    const socket = this.#socket;
    this.#socket = undefined;
    socket?.close();
    for (const answer of this.#asks.values()) answer(AWAY);
    this.#asks.clear();
  }

  /** What the replica has to send; without a connection it is sent after the next `welcome`. */
  #sendOutgoing(): void {
    for (
      let frame = this.replica.pollOutgoing();
      frame !== undefined;
      frame = this.replica.pollOutgoing()
    ) {
      if (frame.type !== "propose") this.#send(frame);
      // Without a connection it is sent after the next `welcome`.
      else if (this.standing === "present") this.#outbox.put(frame);
    }
    this.#outbox.answered(this.replica.answered);
  }

  #sendProposals(frames: Propose[]): void {
    for (const frame of frames) this.replica.noteSent(frame.n);
    const [first, ...others] = frames;
    if (first === undefined) return;
    if (others.length === 0) this.#send(first);
    else this.#send({ type: "proposals", proposals: frames.map(({ type: _, ...body }) => body) });
  }

  #send(frame: FromParticipant): void {
    if (this.#socket?.readyState === WebSocket.OPEN) this.#socket.send(this.#codec.encode(frame));
  }

  #stand(standing: Standing): void {
    this.standing = standing;
    this.#events.standing?.();
  }
}
