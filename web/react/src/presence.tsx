/** What people tell of themselves, in React. */

import "@rendel/client/presence";
import type { Json, Session } from "@rendel/client";
import { useCallback, useMemo, useSyncExternalStore } from "react";
import { useSession } from "./index.tsx";

/** What somebody tells in one of their tabs. */
export type Fact<V> = { readonly who: string; readonly client: string; readonly value: V };

const NONE: readonly never[] = [];

/**
 * What others tell under a name that the charter declares, such as a pointer: drawn again when that
 * changes, and the same array while it does not. Carets count in what everyone agrees on.
 */
export function useFacts<V = Json>(name: string): readonly Fact<V>[] {
  const session = useSession();
  const [listen, now] = useMemo(() => factsOf<V>(session, name), [session, name]);
  return useSyncExternalStore(listen, now, () => NONE);
}

function factsOf<V>(session: Session | undefined, name: string) {
  let known: readonly Fact<V>[] = NONE;
  const listen = (heard: () => void) => {
    // Carets move with what is settled.
    const ends = [session?.listen("people", heard), session?.listen("state", heard)];
    return () => {
      for (const end of ends) end?.();
    };
  };
  const now = () => {
    const facts: Fact<V>[] = [];
    for (const [who, tabs] of session?.presence ?? [])
      for (const [client, told] of tabs)
        if (told[name] !== undefined) facts.push({ who, client, value: told[name] as V });
    const isSame = (fact: Fact<V>, at: number) => {
      const was = known[at];
      return was?.who === fact.who && was.client === fact.client && was.value === fact.value;
    };
    if (facts.length !== known.length || !facts.every(isSame)) known = facts;
    return known;
  };
  return [listen, now] as const;
}

/** Tells something of oneself, at the charter's rate; `null` takes it back. The same function while
 * the session is the same, and without effect until it is entered. */
export function useTell(): (facts: { [fact: string]: Json }) => void {
  const session = useSession();
  return useCallback((facts) => session?.tell(facts), [session]);
}
