import type { Propose } from "./frame.ts";

/** Of the rate that a session takes, the part that one connection uses: another tab may want something, too. */
const SHARE = 0.9;

/**
 * Proposals on their way out, in order and no faster than the service takes them: by the generic
 * cell rate algorithm (ITU-T I.371), with half a second's share at once.
 */
export class Outbox {
  #waiting: Propose[] = [];
  /** Milliseconds between two, and how far ahead of that pace a burst may be. */
  #every = 0;
  #ahead = 0;
  /** When the next would go at an even pace. */
  #even = 0;
  #notBefore = 0;
  #timer: ReturnType<typeof setTimeout> | undefined;
  #send: (frame: Propose) => void;

  constructor(send: (frame: Propose) => void) {
    this.#send = send;
  }

  /** The session takes so many proposals a second. What waited before is forgotten: `frames` are to be sent now. */
  begin(perSecond: number, frames: readonly Propose[]): void {
    this.clear();
    this.#every = 1_000 / (perSecond * SHARE);
    this.#ahead = 500;
    this.#even = performance.now();
    this.#notBefore = 0;
    this.#waiting = [...frames];
    this.#flush();
  }

  put(frame: Propose): void {
    this.#waiting.push(frame);
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
    for (let frame = this.#waiting[0]; frame !== undefined; frame = this.#waiting[0]) {
      const now = performance.now();
      this.#even = Math.max(this.#even, now);
      const wait = Math.max(this.#even - this.#ahead, this.#notBefore) - now;
      if (wait > 0) {
        this.#timer = setTimeout(() => this.#flush(), Math.ceil(wait));
        return;
      }
      this.#even += this.#every;
      this.#waiting.shift();
      this.#send(frame);
    }
  }
}
