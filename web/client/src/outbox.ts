import type { Edit, Propose, Welcome } from "./frame.ts";

/**
 * Of the rate that a session takes, the part that one connection uses: another tab may want
 * something, too.
 */
const SHARE = 0.9;
/**
 * Proposals without an answer that are on their way at one time: fewer than the outcomes that the
 * service remembers of a client, so that none is lost with the connection.
 */
const WINDOW = 1_024;
/** Proposals of one frame. */
const TOGETHER = 256;

/** What a proposal counts: one for each 16 edits and each 4 KiB that it has begun. */
export function cost(edits: readonly Edit[]): number {
  const bytes = JSON.stringify(edits).length;
  return Math.max(1, Math.ceil(edits.length / 16), Math.ceil(bytes / 4_096));
}

/**
 * Proposals on their way out, in order and no faster than the service takes them: by the generic
 * cell rate algorithm (ITU-T I.371).
 */
export class Outbox {
  #waiting: Propose[] = [];
  /** Milliseconds between two, and how far ahead of that pace a burst may be. */
  #every = 0;
  #ahead = 0;
  /** When the next would go at an even pace. */
  #even = 0;
  #notBefore = 0;
  /** Nothing beyond this number is sent, and no frame of more characters. */
  #last = 0;
  #most = 0;
  #timer: ReturnType<typeof setTimeout> | undefined;
  #send: (frames: Propose[]) => void;

  constructor(send: (frames: Propose[]) => void) {
    this.#send = send;
  }

  /**
   * What waited before is forgotten: `frames` are to be sent now, as fast as the session takes
   * them.
   */
  begin(limits: Welcome["limits"], answered: number, frames: readonly Propose[]): void {
    this.clear();
    const burst = limits.burst ?? limits.proposals_per_second / 2;
    this.#every = 1_000 / (limits.proposals_per_second * SHARE);
    this.#ahead = this.#every * Math.max(0, burst * SHARE - 1);
    this.#even = performance.now();
    this.#notBefore = 0;
    // A character takes three bytes at most, but for those outside of ASCII few are sent.
    this.#most = limits.frame / 3;
    this.#waiting = [...frames];
    this.answered(answered);
  }

  put(frame: Propose): void {
    this.#waiting.push(frame);
    this.#flush();
  }

  /** The answers to everything up to this number are known. */
  answered(n: number): void {
    this.#last = n + WINDOW;
    this.#flush();
  }

  /**
   * Proposal `n` came too fast. It is sent again after a while, and so is everything after it,
   * which the service does not take before it.
   */
  takeBack(n: number, wait: number, unanswered: readonly Propose[]): void {
    this.#notBefore = Math.max(this.#notBefore, performance.now() + wait);
    const first = this.#waiting[0];
    if (first === undefined || first.n > n)
      this.#waiting = unanswered.filter((frame) => frame.n >= n);
    this.#flush();
  }

  clear(): void {
    clearTimeout(this.#timer);
    this.#timer = undefined;
    this.#waiting = [];
  }

  #flush(): void {
    clearTimeout(this.#timer);
    this.#timer = undefined;
    for (let frames = this.#take(); frames.length > 0; frames = this.#take()) this.#send(frames);
  }

  /** The next ones that may go in one frame, where their time has come. */
  #take(): Propose[] {
    let taken = 0;
    let size = 0;
    for (const frame of this.#waiting) {
      size += JSON.stringify(frame).length;
      if (frame.n > this.#last || (taken > 0 && (taken === TOGETHER || size > this.#most))) break;
      const now = performance.now();
      const even = Math.max(this.#even, now);
      const wait = Math.max(even - this.#ahead, this.#notBefore) - now;
      if (wait > 0) {
        this.#timer = setTimeout(() => this.#flush(), Math.ceil(wait));
        break;
      }
      this.#even = even + this.#every * cost(frame.edits);
      taken += 1;
    }
    return this.#waiting.splice(0, taken);
  }
}
