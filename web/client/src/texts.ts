import type { Splice } from "./draft.ts";
import type { Edit, Effect, Json } from "./frame.ts";
import type { Anchor } from "./replica.ts";

/**
 * What a replica needs to edit texts. It comes with `text.ts`, which a page without texts need not
 * load.
 */
export type Drafts = {
  /**
   * Makes a splice of one's own in the text that is shown; gives whether what is on its way was
   * overtaken, so that it must wait.
   */
  edit: (at: string, shown: string | undefined, key: number, splice: Splice) => boolean;
  setOvertaken: (isOvertaken: boolean) => void;
  /** A view with the texts as they are shown. */
  over: (view: Json) => Json;
  /** Where a gap of the text that everyone agrees on stands in the text that is shown. */
  shownIndex: (at: string, index: number) => number;
  anchor: (at: string, index: number, isLeft: boolean) => Anchor;
  release: (anchor: Anchor) => void;
  /** Another state than the one that updates led to. */
  takeState: (before: Json | undefined, state: Json) => void;
  /** Follows splices that were applied, of an own proposal where `own` is its key. */
  settle: (splices: ReadonlyMap<string, Splice[]>, own: number | undefined) => void;
  /** A text may be another, or gone, where what is around it was put, dropped or moved. */
  replace: (effect: Effect, confirmed: Json | undefined) => void;
  /** Takes what is left of an own proposal out of the texts. */
  forget: (key: number) => void;
  /** Lets go of the texts in which nothing is pending. */
  keepOnly: (isNeeded: (at: string) => boolean) => void;
  /**
   * The edits of a proposal that waited, its splices where they belong now. Of each text the
   * splices stand together.
   */
  madeAnew: (key: number, edits: readonly Edit[]) => Edit[];
};

let support: (() => Drafts) | undefined;

export function supportTexts(given: () => Drafts): void {
  support = given;
}

/** Throws where nobody loaded it. */
export function newDrafts(): Drafts {
  if (support === undefined)
    throw new Error('to edit texts, load them first: import "@rendel/client/text"');
  return support();
}
