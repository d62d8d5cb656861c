/** Texts in React. */

import { bind, fieldEditor } from "@rendel/client/text";
import { type RefCallback, useCallback } from "react";
import { useSession } from "./index.tsx";

/**
 * Binds a `<textarea>` or `<input>` to a text: give what comes back as its `ref`, and no `value`.
 */
export function useBoundText(path: string): RefCallback<HTMLTextAreaElement | HTMLInputElement> {
  const session = useSession();
  return useCallback(
    (field: HTMLTextAreaElement | HTMLInputElement | null) => {
      if (field === null || session === undefined) return;
      let end: (() => void) | undefined;
      let isOver = false;
      void session.ready.then(() => {
        if (!isOver) end = bind(session, session.text(path), fieldEditor(field));
      });
      return () => {
        isOver = true;
        end?.();
      };
    },
    [session, path],
  );
}
