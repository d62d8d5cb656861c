/** Undo and redo of one's own, in React. */

import type { Proposal } from "@rendel/client";
import { beginGesture, gesture, type Undoable, undoing } from "@rendel/client/undo";
import { useCallback, useMemo, useSyncExternalStore } from "react";
import { useSession } from "./index.tsx";

const NOTHING: Undoable = { undo: null, redo: null };

/** Undo and redo of one's own. */
export type Undo = Undoable & {
  /** Takes back what you did last; `undefined` where it had not been sent and is cancelled. */
  takeBack: () => Proposal | undefined;
  /** Does again what you undid last. */
  doAgain: () => Proposal | undefined;
  /** Does something as one step of undo. */
  together: <T>(name: string, act: () => T) => T;
  /** Begins a step of undo that lasts until what is given back is called, such as a drag. */
  begin: (name: string) => () => void;
};

/** What you can undo and redo now: drawn again when that changes. */
export function useUndo(): Undo {
  const session = useSession();
  const it = useMemo(() => session && undoing(session), [session]);
  const listen = useCallback((heard: () => void) => it?.listen(heard) ?? (() => {}), [it]);
  const now = () => it?.undoable ?? NOTHING;
  const undoable = useSyncExternalStore(listen, now, () => NOTHING);
  return {
    ...undoable,
    takeBack: () => it?.undo(),
    doAgain: () => it?.redo(),
    together: (name, act) => (session === undefined ? act() : gesture(session, name, act)),
    begin: (name) => (session === undefined ? () => {} : beginGesture(session, name)),
  };
}
