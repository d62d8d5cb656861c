/**
 * A splice: where, how many characters go, and which come. Positions count Unicode scalar values.
 */
export type Splice = { index: number; delete: number; insert: string };

/**
 * How what is shown has changed: characters went and came at a place, or some moved, counted
 * without them.
 */
export type Shift =
  | { kind: "splice"; at: number; delete: number; insert: number }
  | { kind: "move"; from: number; len: number; to: number };

/** Characters side by side that have the same story. */
type Run = {
  chars: string[];
  /** The own proposal that inserts them; none where everyone agrees on them. */
  by?: number;
  /** The own proposals that delete them. */
  cuts: number[];
};

const isAgreed = (run: Run) => run.by === undefined;
const isShown = (run: Run) => run.cuts.length === 0;
/** Whether it is there for one who has made all own proposals before `key`. */
const isThereBefore = (run: Run, key: number) =>
  (run.by === undefined || run.by < key) && run.cuts.every((cut) => cut >= key);
const count = (runs: Run[], counts: (run: Run) => boolean) =>
  runs.reduce((sum, run) => sum + (counts(run) ? run.chars.length : 0), 0);

/**
 * A text while own splices of it have no answer: what everyone agrees on, what is one's own, and in
 * which order they are shown.
 *
 * A settled splice counts positions in what everyone agrees on, an own one in what is shown. Both
 * find their place here without any being transformed over another. What is shown may stand in
 * another order than it will settle in, where somebody else typed at the same place; then it moves
 * there when the answer comes.
 */
export class Draft {
  /**
   * Whether somebody else changed the text since own splices are on their way: what is made now
   * counts positions among what the service may order otherwise, and must wait until those are
   * answered.
   */
  isOvertaken = false;
  #runs: Run[];

  constructor(text: string) {
    this.#runs = [{ chars: Array.from(text), cuts: [] }];
  }

  /** What is shown. */
  get text(): string {
    return this.#runs
      .filter(isShown)
      .flatMap((run) => run.chars)
      .join("");
  }

  /** Where a gap of what everyone agrees on stands in what is shown. */
  shownIndex(agreed: number): number {
    let left = agreed;
    let shown = 0;
    for (const run of this.#runs) {
      if (left === 0) break;
      const taken = isAgreed(run) ? Math.min(run.chars.length, left) : run.chars.length;
      if (isAgreed(run)) left -= taken;
      if (isShown(run)) shown += taken;
    }
    return shown;
  }

  /** What everyone agrees on. */
  get agreed(): string {
    return this.#runs
      .filter(isAgreed)
      .flatMap((run) => run.chars)
      .join("");
  }

  /** Cuts the run at `at` after `offset` characters. */
  #cut(at: number, offset: number): void {
    const run = this.#runs[at];
    if (run === undefined || offset <= 0 || offset >= run.chars.length) return;
    const rest = { ...run, chars: run.chars.splice(offset), cuts: [...run.cuts] };
    this.#runs.splice(at + 1, 0, rest);
  }

  /**
   * Makes a run begin at the `index`th of the characters that count, the first of them where there
   * is a choice.
   */
  #split(index: number, counts: (run: Run) => boolean): number {
    let left = index;
    for (let at = 0; at < this.#runs.length; at++) {
      if (left === 0) return at;
      const run = this.#runs[at] as Run;
      if (!counts(run)) continue;
      if (left < run.chars.length) {
        this.#cut(at, left);
        return at + 1;
      }
      left -= run.chars.length;
    }
    return this.#runs.length;
  }

  #shownBefore(at: number): number {
    return count(this.#runs.slice(0, at), isShown);
  }

  /** An own splice of what is shown; what lies beyond the end is left out. */
  edit(key: number, splice: Splice): Shift[] {
    const from = this.#split(splice.index, isShown);
    let left = splice.delete;
    for (let at = from; left > 0 && at < this.#runs.length; at++) {
      if (!isShown(this.#runs[at] as Run)) continue;
      this.#cut(at, left);
      const run = this.#runs[at] as Run;
      left -= run.chars.length;
      run.cuts.push(key);
    }
    const chars = Array.from(splice.insert);
    if (chars.length > 0) this.#runs.splice(from, 0, { chars, by: key, cuts: [] });
    return [
      { kind: "splice", at: splice.index, delete: splice.delete - left, insert: chars.length },
    ];
  }

  /** What everyone agrees on loses characters. */
  #deleteAgreed(splice: Splice, shifts: Shift[]): void {
    let at = this.#split(splice.index, isAgreed);
    let left = splice.delete;
    while (left > 0) {
      const run = this.#runs[at];
      if (run === undefined) throw new Error("a splice reaches beyond the text");
      if (!isAgreed(run)) {
        at++;
        continue;
      }
      this.#cut(at, left);
      this.#runs.splice(at, 1);
      left -= run.chars.length;
      if (isShown(run))
        shifts.push({
          kind: "splice",
          at: this.#shownBefore(at),
          delete: run.chars.length,
          insert: 0,
        });
    }
  }

  #insertAgreed(at: number, chars: string[], shifts: Shift[]): void {
    shifts.push({ kind: "splice", at: this.#shownBefore(at), delete: 0, insert: chars.length });
    this.#runs.splice(at, 0, { chars, cuts: [] });
  }

  /** Somebody else's settled splice. */
  settleForeign(splice: Splice): Shift[] {
    const shifts: Shift[] = [];
    this.#deleteAgreed(splice, shifts);
    if (splice.insert !== "") {
      // Where one's own will most likely stand behind it once it is settled, it is shown so.
      const at = this.#split(splice.index, isAgreed);
      const isEnd = !this.#runs.slice(at).some(isAgreed);
      this.#insertAgreed(isEnd ? this.#runs.length : at, Array.from(splice.insert), shifts);
    }
    this.isOvertaken = true;
    return shifts;
  }

  /**
   * The settled splices of an own proposal: what it inserted is agreed on, and stands where they
   * say.
   */
  settleOwn(key: number, splices: Splice[]): Shift[] {
    const shifts: Shift[] = [];
    for (const splice of splices) {
      this.#deleteAgreed(splice, shifts);
      if (splice.insert === "") continue;
      const chars = Array.from(splice.insert);
      const own = this.#findOwn(key, chars);
      if (own !== undefined) this.#agree(own, key, splice.index, shifts);
      else this.#insertAgreed(this.#split(splice.index, isAgreed), chars, shifts);
    }
    return [...shifts, ...this.forget(key)];
  }

  /**
   * The runs in which an own proposal's insert of these characters stands: the first, and the one
   * behind the last.
   */
  #findOwn(key: number, chars: string[]): [number, number] | undefined {
    const all = this.#runs.flatMap((run, at) =>
      run.by === key ? run.chars.map((one, offset) => ({ at, offset, one })) : [],
    );
    const start = all.findIndex((_, from) =>
      chars.every((one, index) => all[from + index]?.one === one),
    );
    const [first, last] = [all[start], all[start + chars.length - 1]];
    if (first === undefined || last === undefined) return undefined;
    this.#cut(last.at, last.offset + 1);
    this.#cut(first.at, first.offset);
    const isSplit = first.offset > 0 ? 1 : 0;
    return [first.at + isSplit, last.at + isSplit + 1];
  }

  /**
   * Own runs are agreed on from now on; with what was typed among them and at their end they go to
   * `index`.
   */
  #agree([first, end]: [number, number], key: number, index: number, shifts: Shift[]): void {
    const before = count(this.#runs.slice(0, first), isAgreed);
    for (const run of this.#runs.slice(first, end)) if (run.by === key) delete run.by;
    if (before === index) return;
    const beyond = this.#runs.slice(end).findIndex(isAgreed);
    const from = this.#shownBefore(first);
    const moved = this.#runs.splice(
      first,
      beyond < 0 ? this.#runs.length - first : end + beyond - first,
    );
    const at = this.#split(index, isAgreed);
    shifts.push({ kind: "move", from, len: count(moved, isShown), to: this.#shownBefore(at) });
    this.#runs.splice(at, 0, ...moved);
  }

  /**
   * Takes back what an own proposal did, which was refused or is part of what everyone agrees on
   * already.
   */
  forget(key: number): Shift[] {
    const shifts: Shift[] = [];
    let shown = 0;
    const kept: Run[] = [];
    for (const run of this.#runs) {
      const wasShown = isShown(run);
      run.cuts = run.cuts.filter((cut) => cut !== key);
      const len = run.chars.length;
      if (run.by === key) {
        if (wasShown) shifts.push({ kind: "splice", at: shown, delete: len, insert: 0 });
        continue;
      }
      if (!wasShown && isShown(run))
        shifts.push({ kind: "splice", at: shown, delete: 0, insert: len });
      shown += isShown(run) ? len : 0;
      kept.push(run);
    }
    this.#runs = kept;
    return shifts;
  }

  /** What everyone agrees on is another text now, by ways that are not known. */
  settleAs(text: string): Shift[] {
    const [before, after] = [Array.from(this.agreed), Array.from(text)];
    let same = 0;
    while (same < before.length && same < after.length && before[same] === after[same]) same++;
    let tail = 0;
    const most = Math.min(before.length, after.length) - same;
    while (tail < most && before.at(-1 - tail) === after.at(-1 - tail)) tail++;
    return this.settleForeign({
      index: same,
      delete: before.length - same - tail,
      insert: after.slice(same, after.length - tail).join(""),
    });
  }

  /** What an own proposal does, as splices of what is there once all before it are made. */
  splices(key: number): Splice[] {
    const splices: Splice[] = [];
    let index = 0;
    let open: Splice | undefined;
    for (const run of this.#runs) {
      const isCut = isThereBefore(run, key) && run.cuts.includes(key);
      const isNew = run.by === key && run.cuts.every((cut) => cut > key);
      if (isCut || isNew) {
        if (open === undefined) {
          open = { index, delete: 0, insert: "" };
          splices.push(open);
        }
        if (isCut) open.delete += run.chars.length;
        if (isNew) {
          open.insert += run.chars.join("");
          index += run.chars.length;
        }
      } else if (isThereBefore(run, key)) {
        index += run.chars.length;
        open = undefined;
      }
    }
    return splices;
  }
}

/**
 * Where the gap before `index` is after a shift; what comes right there comes behind it if
 * `isLeft`.
 */
export function follow(shift: Shift, index: number, isLeft: boolean): number {
  if (shift.kind === "splice") {
    if (index < shift.at || (index === shift.at && isLeft)) return index;
    return shift.at + shift.insert + Math.max(0, index - shift.at - shift.delete);
  }
  const { from, len, to } = shift;
  if (isLeft ? from < index && index <= from + len : from <= index && index < from + len)
    return to + (index - from);
  const without = index >= from + len ? index - len : Math.min(index, from);
  return without < to || (without === to && isLeft) ? without : without + len;
}

/** Whether the character at `index` goes. */
export function removes(shift: Shift, index: number): boolean {
  return shift.kind === "splice" && shift.at <= index && index < shift.at + shift.delete;
}
