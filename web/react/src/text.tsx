/** Texts in React. */

import type { Session } from "@rendel/client";
import { bind, bindPieces, fieldEditor, type PieceEditor } from "@rendel/client/text";
import { type RefCallback, useCallback, useEffect } from "react";
import { useSession } from "./index.tsx";

/**
 * Binds a `<textarea>` or `<input>` to a text: give what comes back as its `ref`, and no `value`.
 */
export function useBoundText(path: string): RefCallback<HTMLTextAreaElement | HTMLInputElement> {
  const session = useSession();
  return useCallback(
    (field: HTMLTextAreaElement | HTMLInputElement | null) => {
      if (field === null || session === undefined) return;
      return once(session, () => bind(session, session.text(path), fieldEditor(field)));
    },
    [session, path],
  );
}

/**
 * Binds a rich editor to a text, by its changes; `editor` is `undefined` as long as there is none.
 * Give the same object each time: another one is bound anew.
 */
export function useBoundEditor(path: string, editor: PieceEditor | undefined): void {
  const session = useSession();
  useEffect(() => {
    if (editor === undefined || session === undefined) return;
    return once(session, () => bindPieces(session, session.text(path), editor));
  }, [session, path, editor]);
}

/** Begins something once the state is known; gives what ends it, also before. */
function once(session: Session, begin: () => () => void): () => void {
  let end: (() => void) | undefined;
  let isOver = false;
  void session.ready.then(() => {
    if (!isOver) end = begin();
  });
  return () => {
    isOver = true;
    end?.();
  };
}
