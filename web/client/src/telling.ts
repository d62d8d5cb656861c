import type { Effect, Facts, Told } from "./frame.ts";

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

type IsSelf = (who: string, client: string) => boolean;

let support: ((isSelf: IsSelf) => Telling) | undefined;

export function supportTelling(given: (isSelf: IsSelf) => Telling): void {
  support = given;
}

/** Nothing where nobody loaded it. */
export function newTelling(isSelf: IsSelf): Telling | undefined {
  return support?.(isSelf);
}
