/** Rows of queries, in React. */

import type { Json } from "@rendel/client";
import { type Ask, type Following, follow, type Row } from "@rendel/client/queries";
import { useCallback, useEffect, useMemo, useSyncExternalStore } from "react";
import { useSession } from "./index.tsx";

/** The rows of a query, and why there are none where it cannot be followed. */
export type FollowedRows<V = Json> = Pick<Following<V>, "rows" | "end" | "problem">;

/**
 * Follows a query for as long as the component is there: `undefined` rows before the first came. It is
 * followed anew where what it asks for is another.
 */
export function useRows<V = Json>(ask: Ask): FollowedRows<V> {
  const session = useSession();
  const key = JSON.stringify(ask);
  const it = useMemo(() => session && follow<V>(session, JSON.parse(key) as Ask), [session, key]);
  useEffect(() => () => it?.leave(), [it]);
  const listen = useCallback((heard: () => void) => it?.listen(heard) ?? (() => {}), [it]);
  const rows = useSyncExternalStore<readonly Row<V>[] | undefined>(
    listen,
    () => it?.rows,
    () => undefined,
  );
  return { rows, end: it?.end, problem: it?.problem };
}
