import type { Effect, Facts, FromParticipant, Told, Welcome } from "./frame.ts";

/**
 * What others tell of themselves. It comes with `presence.ts`, which a page that shows none need not
 * load.
 */
export type Telling = {
  readonly told: ReadonlyMap<string, ReadonlyMap<string, Facts>>;
  clear: () => void;
  /** Somebody tells something else of themselves, or nothing any more. */
  tell: (of: Told<Facts | null>) => void;
  /** Carets move with their texts. */
  follow: (effects: Effect[]) => void;
  forget: (who: string) => void;
};

/** What one tells of oneself, at the session's rate and again after a return. */
export type Saying = {
  say: (set: Facts) => void;
  /** What has lapsed is not said again, and what waits goes with the `enter`. */
  enter: () => void;
  welcome: (limits: Welcome["limits"]) => void;
  stop: () => void;
};

type IsSelf = (who: string, client: string) => boolean;
type Teller = {
  readonly limits: Welcome["limits"] | undefined;
  say: (set: Facts) => FromParticipant;
  lapse: (names: readonly string[]) => void;
};
type Support = {
  telling: (isSelf: IsSelf) => Telling;
  saying: (
    replica: Teller,
    isPresent: () => boolean,
    send: (frame: FromParticipant) => void,
  ) => Saying;
};

let support: Support | undefined;

export function supportTelling(given: Support): void {
  support = given;
}

/** Nothing where nobody loaded it. */
export function newTelling(isSelf: IsSelf): Telling | undefined {
  return support?.telling(isSelf);
}

/** Throws where nobody loaded it. */
export function newSaying(...given: Parameters<Support["saying"]>): Saying {
  if (support === undefined)
    throw new Error('to tell of yourself, load that first: import "@rendel/client/presence"');
  return support.saying(...given);
}
