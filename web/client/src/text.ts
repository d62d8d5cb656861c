/** Editing texts: load it where a page has one. */

import "./drafts.ts";

import { spliceBetween, toScalars, toUnits } from "./position.ts";
import type { Anchor, Replica } from "./replica.ts";
import type { TextHandle } from "./session.ts";

export { scalarCount, spliceBetween, toScalars, toUnits } from "./position.ts";

/** What an editor is to a text: where it is shown, and where the selection is. */
export type Editor = {
  /** Shows a text, with the selection at these places, which count UTF-16 code units as the DOM does. */
  show: (text: string, selection: { start: number; end: number }) => void;
  text: () => string;
  selection: () => { start: number; end: number };
  /** Hears of each change that a person makes, until what is given back is called. */
  listen: (heard: () => void) => () => void;
};

/** What a session gives to bind an editor to one of its texts. */
type Around = {
  readonly parts: { readonly replica: Pick<Replica, "anchor" | "release"> };
  listen: (name: "state", heard: () => void) => () => void;
};

/**
 * Binds an editor to a text: what a person types is proposed, what others type is shown around it,
 * and the selection stays at its characters. Gives what ends it.
 */
export function bind(session: Around, text: TextHandle, editor: Editor): () => void {
  const { replica } = session.parts;
  let shown = text.value ?? "";
  let anchors: Anchor[] = [];
  const hold = () => {
    for (const anchor of anchors) replica.release(anchor);
    const { start, end } = editor.selection();
    const isRange = start !== end;
    anchors = [start, end].map((units, at) =>
      replica.anchor(text.at, toScalars(shown, units), !isRange || at === 1),
    );
  };
  const draw = () => {
    const now = text.value ?? "";
    if (now === editor.text()) {
      shown = now;
      return;
    }
    const [start, end] = anchors.map((anchor) => toUnits(now, anchor.index));
    shown = now;
    editor.show(now, { start: start ?? now.length, end: end ?? now.length });
  };
  const typed = () => {
    const { end } = editor.selection();
    const splice = spliceBetween(shown, editor.text(), end);
    if (splice !== undefined) text.splice(splice.index, splice.delete, splice.insert);
    shown = text.value ?? "";
    hold();
    draw();
  };
  editor.show(shown, { start: shown.length, end: shown.length });
  hold();
  const ends = [session.listen("state", draw), editor.listen(typed), watchSelection(hold)];
  return () => {
    for (const end of ends) end();
    for (const anchor of anchors) replica.release(anchor);
  };
}

/** Some characters in place of others. It counts UTF-16 code units, as editors do. */
export type Replaced = { index: number; delete: number; insert: string };

/** An editor that tells and takes changes piece by piece, as rich editors do. */
export type PieceEditor = {
  /** The whole text, to begin with. */
  show: (text: string) => void;
  /** Takes what others changed. The editor keeps its selection at its characters. */
  take: (change: Replaced) => void;
  /**
   * Hears of what a person changed, each piece in the text that the one before it left, until what is
   * given back is called. What came by `take` is not told.
   */
  listen: (heard: (changes: readonly Replaced[]) => void) => () => void;
};

/** Binds an editor that tells its changes piece by piece to a text. Gives what ends it. */
export function bindPieces(session: Around, text: TextHandle, editor: PieceEditor): () => void {
  let shown = text.value ?? "";
  let isTyping = false;
  const draw = () => {
    if (isTyping) return;
    const now = text.value ?? "";
    const splice = spliceBetween(shown, now);
    if (splice === undefined) return;
    const index = toUnits(shown, splice.index);
    const end = toUnits(shown, splice.index + splice.delete);
    shown = now;
    editor.take({ index, delete: end - index, insert: splice.insert });
  };
  const typed = (changes: readonly Replaced[]) => {
    // What is proposed is shown at once: others' changes wait until the editor's own are all in.
    isTyping = true;
    for (const { index, delete: removed, insert } of changes) {
      const at = toScalars(shown, index);
      text.splice(at, toScalars(shown, index + removed) - at, insert);
      shown = shown.slice(0, index) + insert + shown.slice(index + removed);
    }
    isTyping = false;
  };
  editor.show(shown);
  const ends = [session.listen("state", draw), editor.listen(typed)];
  return () => {
    for (const end of ends) end();
  };
}

function watchSelection(hold: () => void): () => void {
  const { document } = globalThis;
  document?.addEventListener("selectionchange", hold);
  return () => document?.removeEventListener("selectionchange", hold);
}

/** A `<textarea>` or `<input>` as an editor. What is being composed is taken once it is done. */
export function fieldEditor(field: HTMLTextAreaElement | HTMLInputElement): Editor {
  return {
    text: () => field.value,
    selection: () => ({ start: field.selectionStart ?? 0, end: field.selectionEnd ?? 0 }),
    show: (text, { start, end }) => {
      const isFocused = field.ownerDocument.activeElement === field;
      field.value = text;
      if (isFocused) field.setSelectionRange(start, end);
    },
    listen: (heard) => {
      let isComposing = false;
      const ears: [string, () => void][] = [
        [
          "compositionstart",
          () => {
            isComposing = true;
          },
        ],
        [
          "compositionend",
          () => {
            isComposing = false;
            heard();
          },
        ],
        [
          "input",
          () => {
            if (!isComposing) heard();
          },
        ],
      ];
      for (const [name, ear] of ears) field.addEventListener(name, ear);
      return () => {
        for (const [name, ear] of ears) field.removeEventListener(name, ear);
      };
    },
  };
}
