/** What participants tell of themselves: load it where a page shows that. */

import type { Caret, Effect, Facts, FromParticipant, Json, Told, Welcome } from "./frame.ts";
import { takesAway } from "./frame.ts";
import { scalarCount } from "./position.ts";
import { type newSaying, type Saying, supportTelling, type Telling } from "./telling.ts";

class Presence implements Telling {
  readonly told = new Map<string, Map<string, Facts>>();
  #isSelf: (who: string, client: string) => boolean;

  constructor(isSelf: (who: string, client: string) => boolean) {
    this.#isSelf = isSelf;
  }

  clear(): void {
    this.told.clear();
  }

  tell(of: Told<Facts | null>): void {
    for (const [who, told] of Object.entries(of)) this.#tellOf(who, told);
  }

  #tellOf(who: string, told: { [client: string]: Facts | null }): void {
    const here = new Map(this.told.get(who));
    for (const [client, facts] of Object.entries(told)) {
      const isSelf = this.#isSelf(who, client);
      if (facts === null || isSelf) here.delete(client);
      else here.set(client, facts);
    }
    if (here.size > 0) this.told.set(who, here);
    else this.told.delete(who);
  }

  follow(effects: Effect[]): void {
    for (const told of this.told.values())
      for (const [client, facts] of told) told.set(client, followCarets(facts, effects));
  }

  forget(who: string): void {
    this.told.delete(who);
  }
}

/** What one tells of oneself. */
class Own implements Saying {
  #replica: Given[0];
  #isPresent: Given[1];
  #send: Given[2];
  #waiting: Facts | undefined;
  #said = 0;
  #saidAt = new Map<string, number>();
  #lapses: { [fact: string]: number } = {};
  #every = 33;
  #timer: ReturnType<typeof setTimeout> | undefined;

  constructor(...[replica, isPresent, send]: Given) {
    this.#replica = replica;
    this.#isPresent = isPresent;
    this.#send = send;
    if (replica.limits !== undefined) this.welcome(replica.limits);
  }

  say(set: Facts): void {
    this.#waiting = { ...this.#waiting, ...set };
    if (this.#timer !== undefined) return;
    const wait = Math.max(0, this.#said + this.#every - performance.now());
    this.#timer = setTimeout(() => {
      this.#timer = undefined;
      // Otherwise it is said with the next `enter`, or after the `welcome` that is waited for.
      if (this.#isPresent()) this.#send(this.#take());
    }, wait);
  }

  /** What waits to be said, from now on as what was said. */
  #take(): FromParticipant {
    this.#said = performance.now();
    for (const name of Object.keys(this.#waiting ?? {})) this.#saidAt.set(name, this.#said);
    const frame = this.#replica.say(this.#waiting ?? {});
    this.#waiting = undefined;
    return frame;
  }

  enter(): void {
    const hasLapsed = ([name, after]: [string, number]) =>
      performance.now() - (this.#saidAt.get(name) ?? 0) >= after;
    const lapsed = Object.entries(this.#lapses).filter(hasLapsed);
    this.#replica.lapse(lapsed.map(([name]) => name));
    if (this.#waiting !== undefined) this.#take();
  }

  welcome(limits: Welcome["limits"]): void {
    this.#every = 1_000 / (limits.presence_per_second ?? 30);
    this.#lapses = limits.presence_lapses_ms ?? {};
    if (this.#waiting !== undefined) this.say({});
  }

  stop(): void {
    clearTimeout(this.#timer);
  }
}

type Given = Parameters<typeof newSaying>;

supportTelling({
  telling: (isSelf) => new Presence(isSelf),
  saying: (...given) => new Own(...given),
});

/** The place in a text that a fact is, if it is one. */
export function caretOf(fact: Json | undefined): Caret | undefined {
  if (fact === undefined || fact === null || typeof fact !== "object" || Array.isArray(fact))
    return undefined;
  return typeof fact.at === "string" && typeof fact.index === "number"
    ? (fact as Caret)
    : undefined;
}

/** The place on a surface that a fact is, if it is one. */
export function pointOf(fact: Json | undefined): { x: number; y: number } | undefined {
  if (fact === undefined || fact === null || typeof fact !== "object" || Array.isArray(fact))
    return undefined;
  return typeof fact.x === "number" && typeof fact.y === "number"
    ? { x: fact.x, y: fact.y }
    : undefined;
}

/**
 * Facts whose carets have moved with their texts; one whose text is gone is taken back. The same
 * facts where none moved.
 */
export function followCarets(facts: Facts, effects: Effect[]): Facts {
  let followed = facts;
  for (const [name, fact] of Object.entries(facts)) {
    const caret = caretOf(fact);
    if (caret === undefined) continue;
    const moved = followCaret(caret, effects);
    if (moved === caret) continue;
    const { [name]: _gone, ...rest } = followed;
    followed = moved === undefined ? rest : { ...followed, [name]: moved };
  }
  return followed;
}

function followCaret(caret: Caret, effects: Effect[]): Caret | undefined {
  let moved: Caret | undefined = caret;
  for (const effect of effects) {
    const isAround = caret.at.startsWith(`${effect.at}/`) && takesAway(effect);
    if (effect.op === "reset" || isAround) moved = undefined;
    if (moved === undefined || effect.at !== caret.at || effect.op !== "splice") continue;
    const to: { to?: number } = moved.to === undefined ? {} : { to: followIndex(moved.to, effect) };
    moved = { ...moved, index: followIndex(moved.index, effect), ...to };
  }
  return moved;
}

/** Where the gap before `index` is after a splice; what comes right there comes behind it. */
function followIndex(
  index: number,
  splice: { index: number; delete: number; insert: string },
): number {
  const { index: at, delete: gone, insert } = splice;
  return index <= at ? index : at + scalarCount(insert) + Math.max(0, index - at - gone);
}

/**
 * A place that glides from where it was last told to where it is told now, over the time between
 * the two.
 */
export class Glide {
  #from: { x: number; y: number };
  #to: { x: number; y: number };
  #begun: number;
  #time = 0;

  constructor(at: { x: number; y: number }, now: number) {
    this.#from = at;
    this.#to = at;
    this.#begun = now;
  }

  /** It is told to be elsewhere. After a pause it does not glide for as long as the pause was. */
  tell(to: { x: number; y: number }, now: number, longest = 120): void {
    if (to.x === this.#to.x && to.y === this.#to.y) return;
    this.#from = this.at(now);
    this.#time = Math.min(Math.max(now - this.#begun, 16), longest);
    this.#to = to;
    this.#begun = now;
  }

  at(now: number): { x: number; y: number } {
    const part = this.#time === 0 ? 1 : Math.min(1, Math.max(0, (now - this.#begun) / this.#time));
    const between = (from: number, to: number) => from + (to - from) * part;
    return { x: between(this.#from.x, this.#to.x), y: between(this.#from.y, this.#to.y) };
  }

  /** Whether it has arrived. */
  isThere(now: number): boolean {
    return now - this.#begun >= this.#time;
  }
}
