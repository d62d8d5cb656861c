import { textAt, withText } from "./apply.ts";
import { Draft, follow, removes, type Shift, type Splice } from "./draft.ts";
import type { Edit, Effect, Json } from "./frame.ts";
import { scalarCount } from "./position.ts";
import type { Anchor } from "./replica.ts";
import type { Drafts } from "./texts.ts";

/** The texts of a replica in which something of one's own is pending, and the places that stay at their characters. */
export class Drafting implements Drafts {
  #drafts = new Map<string, Draft>();
  #anchors = new Set<Anchor>();

  edit(at: string, shown: string | undefined, key: number, splice: Splice): boolean {
    const draft = this.#draft(at, shown);
    if (draft === undefined) return false;
    const { isOvertaken } = draft;
    this.#shift(at, draft.edit(key, splice));
    return isOvertaken;
  }

  #draft(at: string, shown: string | undefined): Draft | undefined {
    const known = this.#drafts.get(at);
    if (known !== undefined || shown === undefined) return known;
    const draft = new Draft(shown);
    this.#drafts.set(at, draft);
    return draft;
  }

  setOvertaken(isOvertaken: boolean): void {
    for (const draft of this.#drafts.values()) draft.isOvertaken = isOvertaken;
  }

  over(view: Json): Json {
    let shown = view;
    for (const [at, draft] of this.#drafts) shown = withText(shown, at, draft.text);
    return shown;
  }

  shownIndex(at: string, index: number): number {
    return this.#drafts.get(at)?.shownIndex(index) ?? index;
  }

  anchor(at: string, index: number, isLeft: boolean): Anchor {
    const anchor = { at, index, isLeft, isThere: true };
    this.#anchors.add(anchor);
    return anchor;
  }

  release(anchor: Anchor): void {
    this.#anchors.delete(anchor);
  }

  #anchored(): Set<string> {
    return new Set([...this.#anchors].map((anchor) => anchor.at));
  }

  #shift(at: string, shifts: Shift[]): void {
    for (const anchor of this.#anchors) {
      if (anchor.at !== at) continue;
      for (const shift of shifts) {
        if (removes(shift, anchor.isLeft ? anchor.index - 1 : anchor.index)) anchor.isThere = false;
        anchor.index = follow(shift, anchor.index, anchor.isLeft);
      }
    }
  }

  takeState(before: Json | undefined, state: Json): void {
    for (const [at, draft] of this.#drafts)
      this.#shift(at, draft.settleAs(textAt(state, at) ?? ""));
    for (const at of this.#anchored()) {
      if (this.#drafts.has(at)) continue;
      const draft = new Draft(textAt(before, at) ?? "");
      this.#shift(at, draft.settleAs(textAt(state, at) ?? ""));
    }
  }

  settle(splices: ReadonlyMap<string, Splice[]>, own: number | undefined): void {
    for (const [at, ofText] of splices) {
      const draft = this.#drafts.get(at);
      if (draft === undefined) this.#shift(at, ofText.map(plainShift));
      else if (own !== undefined) this.#shift(at, draft.settleOwn(own, ofText));
      else
        this.#shift(
          at,
          ofText.flatMap((splice) => draft.settleForeign(splice)),
        );
    }
  }

  replace(effect: Effect, confirmed: Json | undefined): void {
    const isInside = (at: string) => at === effect.at || at.startsWith(`${effect.at}/`);
    for (const [at, draft] of this.#drafts) {
      if (!isInside(at)) continue;
      const text = textAt(confirmed, at) ?? "";
      if (draft.agreed !== text) this.#shift(at, draft.settleAs(text));
    }
    for (const at of this.#anchored()) {
      if (!isInside(at) || textAt(confirmed, at) !== undefined) continue;
      this.#shift(at, [{ kind: "splice", at: 0, delete: Number.MAX_SAFE_INTEGER, insert: 0 }]);
    }
  }

  forget(key: number): void {
    for (const [at, draft] of this.#drafts) this.#shift(at, draft.forget(key));
  }

  keepOnly(isNeeded: (at: string) => boolean): void {
    for (const at of this.#drafts.keys()) if (!isNeeded(at)) this.#drafts.delete(at);
  }

  madeAnew(key: number, edits: readonly Edit[]): Edit[] {
    const done = new Set<string>();
    return edits.flatMap((edit) => {
      const draft = edit.op === "splice" ? this.#drafts.get(edit.at) : undefined;
      if (draft === undefined) return [edit];
      if (done.has(edit.at)) return [];
      done.add(edit.at);
      return draft.splices(key).map((splice) => ({ at: edit.at, op: "splice", ...splice }));
    });
  }
}

function plainShift(splice: Splice): Shift {
  return {
    kind: "splice",
    at: splice.index,
    delete: splice.delete,
    insert: scalarCount(splice.insert),
  };
}
