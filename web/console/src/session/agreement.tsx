import { useCallback, useEffect } from "react";
import { useSigned } from "../auth.tsx";
import { useRead } from "../parts/use-read.ts";
import type { Seat } from "./use-participant.ts";
import { counted } from "./words.ts";

/**
 * What the service last heard of the replicas' digests, and whether this one had to be repaired.
 */
export function Agreement({ session, seat }: { session: string; seat: Seat }) {
  const { api, token } = useSigned();
  // Figures of a session are the backend's; who has a participant's token does not see them.
  const read = async () => (token === undefined ? api.session(session) : undefined);
  const { value, again } = useRead(useCallback(read, [api, session, token]));
  // Digests are asked for within seconds of an update: the figures are read once they can have come
  // in.
  // biome-ignore lint/correctness/useExhaustiveDependencies: a later seq is read anew
  useEffect(() => {
    const timer = setTimeout(again, 6_000);
    return () => clearTimeout(timer);
  }, [again, seat.seq]);
  if (seat.repaired !== undefined)
    return (
      <Line tone="text-amber">This replica differed and was repaired at #{seat.repaired.seq}.</Line>
    );
  if (value === undefined || value.agreed_seq === 0) return null;
  return (
    <Line tone={value.differed > 0 ? "text-amber" : "text-soft"}>
      {counted(value.agreed, "replica")} held the same state at #{value.agreed_seq}
      {value.differed > 0 && `; ${value.differed.toLocaleString("en")} differed and got a snapshot`}
    </Line>
  );
}

function Line({ tone, children }: { tone: string; children: React.ReactNode }) {
  return (
    <p role="status" className={`border-t border-rule px-4 py-2 text-xs ${tone}`}>
      {children}
    </p>
  );
}
