import type { Connection, Json } from "@rendel/client/parts";
import { type Ask, type Following, follow, type Row } from "@rendel/client/queries";

/** Rows of a page, and pages of a list at most. */
const ROWS = 500;
const MOST = 20;
/** Milliseconds after which a page begins where the one before it ends now. */
const CALM = 500;

type Page = { after: string; it: Following; before: readonly Row[] };

/** A long result in pages, each of which begins behind the last row of the one before it. */
export class Pages {
  readonly #parts: Connection;
  readonly #ask: Ask;
  readonly #heard: () => void;
  #pages: Page[] = [];
  #most = 1;
  #calm: ReturnType<typeof setTimeout> | undefined;

  constructor(parts: Connection, ask: Ask, heard: () => void) {
    this.#parts = parts;
    this.#ask = ask;
    this.#heard = heard;
    this.#align();
  }

  /** The rows of all pages, each once; `undefined` before the first came. */
  get rows(): Row[] | undefined {
    if (this.#pages[0]?.it.rows === undefined && this.#pages[0]?.before.length === 0)
      return undefined;
    const known = new Set<string>();
    return this.#pages
      .flatMap(({ it, before }) => it.rows ?? before)
      .filter(({ path }) => !known.has(path) && known.add(path));
  }

  get problem() {
    return this.#pages.find(({ it }) => it.problem !== undefined)?.it.problem;
  }

  /** Whether there may be more rows than these. */
  get hasMore(): boolean {
    return this.#pages.at(-1)?.it.end !== undefined;
  }

  /** Asks for the next page, once the last has come. */
  more() {
    if (!this.hasMore || this.#pages.length < this.#most || this.#most >= MOST) return;
    this.#most += 1;
    this.#align();
  }

  leave() {
    clearTimeout(this.#calm);
    for (const { it } of this.#pages) it.leave();
    this.#pages = [];
  }

  #align() {
    this.#calm = undefined;
    for (let at = 0; at < this.#most; at += 1) {
      const end = at === 0 ? [] : this.#pages[at - 1]?.it.end;
      const page = this.#pages[at];
      if (end === undefined) {
        // It is known to be the last, or what comes behind it is not known yet.
        if (this.#pages[at - 1]?.it.rows !== undefined)
          for (const { it } of this.#pages.splice(at)) it.leave();
        return;
      }
      const after = JSON.stringify(end);
      if (page?.after === after) continue;
      page?.it.leave();
      const ask = { ...this.#ask, limit: ROWS, ...(at > 0 && { after: end as Json[] }) };
      const it = follow<Json>({ parts: this.#parts }, ask);
      this.#pages[at] = { after, it, before: page?.it.rows ?? page?.before ?? [] };
      it.listen(() => {
        this.#calm ??= setTimeout(() => this.#align(), CALM);
        this.#heard();
      });
    }
  }
}
