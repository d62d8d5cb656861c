/**
 * The service's time, as it can be told from pings and pongs.
 *
 * Each pong bounds the difference between the service's clock and one's own from both sides: what it
 * says was so after the ping was sent and before the pong came. The narrowest of each bound count,
 * moved by what the clocks drift apart and loosened by how little that is known. (After Marzullo,
 * "Maintaining the Time in a Distributed System", 1984.)
 */

/** Pongs that are kept. */
const KEPT = 128;
/** How much two clocks may drift apart, and how much at least beyond what is estimated. */
const UNKNOWN = 1e-4;
const KNOWN = 1e-5;
/** The drift is told from pongs that span at least so many milliseconds, and is at most that much. */
const SPAN = 240_000;
const DRIFT = 5e-4;

type Heard = { at: number; low: number; high: number };
type Drift = { by: number; slack: number };

/** What is known of the service's time. One's own is in milliseconds of a clock that never jumps. */
export class ServiceTime {
  #heard: Heard[] = [];
  #drift: Drift = { by: 0, slack: UNKNOWN };

  /** A pong has come with the service's `time`, to a ping that was `sent`. */
  handlePong(sent: number, time: number, received: number): void {
    if (!(sent <= received)) return;
    // It says whole milliseconds, which have begun.
    this.#heard.push({ at: received, low: time - received, high: time + 1 - sent });
    if (this.#heard.length > KEPT) this.#heard.shift();
    // What contradicts the newest is of a clock that was set to another time.
    for (;;) {
      const [low, high] = bounds(this.#heard, received, this.#drift);
      if (low <= high) break;
      this.#heard.shift();
      this.#drift = { by: 0, slack: UNKNOWN };
    }
    this.#estimateDrift();
  }

  /** How many pongs it is told from, 128 at most. */
  get samples(): number {
    return this.#heard.length;
  }

  /** The service's time at a time of one's own, in milliseconds since 1970 UTC. */
  at(own: number): number | undefined {
    if (this.#heard.length === 0) return undefined;
    const [low, high] = bounds(this.#heard, own, this.#drift);
    return own + (low + high) / 2;
  }

  #estimateDrift(): void {
    const [first, last] = [this.#heard[0], this.#heard.at(-1)];
    if (first === undefined || last === undefined || last.at - first.at < SPAN) return;
    const span = last.at - first.at;
    const [middle, quarter, rest] = [first.at + span / 2, first.at + span / 4, last.at - span / 4];
    const half = (of: (heard: Heard) => boolean, at: number) => {
      const [low, high] = bounds(this.#heard.filter(of), at, this.#drift);
      return { mid: (low + high) / 2, off: (high - low) / 2 };
    };
    const before = half(({ at }) => at < middle, quarter);
    const after = half(({ at }) => at >= middle, rest);
    const apart = rest - quarter;
    this.#drift = {
      by: clamp((after.mid - before.mid) / apart, -DRIFT, DRIFT),
      slack: clamp((before.off + after.off) / apart, KNOWN, UNKNOWN),
    };
  }
}

function bounds(heard: Heard[], own: number, { by, slack }: Drift): [number, number] {
  let [low, high] = [Number.NEGATIVE_INFINITY, Number.POSITIVE_INFINITY];
  for (const one of heard) {
    const [moved, loose] = [by * (own - one.at), slack * Math.abs(own - one.at)];
    low = Math.max(low, one.low + moved - loose);
    high = Math.min(high, one.high + moved + loose);
  }
  return [low, high];
}

const clamp = (value: number, low: number, high: number) => Math.min(Math.max(value, low), high);
