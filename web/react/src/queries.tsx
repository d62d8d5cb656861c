/** Rows of queries, in React. */

import type { Json } from "@rendel/client";
import { type Ask, type Following, follow } from "@rendel/client/queries";
import { useEffect, useState } from "react";
import { useSession } from "./index.tsx";

/** The rows of a query, and why there are none where it cannot be followed. */
export type FollowedRows<V = Json> = Pick<Following<V>, "rows" | "end" | "problem">;

const NONE = { rows: undefined, end: undefined, problem: undefined };

/**
 * Follows a query for as long as the component is there: `undefined` rows before the first came. It is
 * followed anew where what it asks for is another.
 */
export function useRows<V = Json>(ask: Ask): FollowedRows<V> {
  const session = useSession();
  const key = JSON.stringify(ask);
  const [now, setNow] = useState<FollowedRows<V>>(NONE);
  useEffect(() => {
    setNow(NONE);
    if (session === undefined) return;
    const it = follow<V>(session, JSON.parse(key) as Ask);
    it.listen(() => setNow({ rows: it.rows, end: it.end, problem: it.problem }));
    return it.leave;
  }, [session, key]);
  return now;
}
