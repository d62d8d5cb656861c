/** Rules of play, in React. */

import {
  type Ballot,
  ballotAt,
  type Chance,
  type Choice,
  type Clock,
  chanceAt,
  clockAt,
  type Deadline,
  deadlineAt,
  type Seats,
  seatsAt,
  serviceTime,
  type Turn,
  turnAt,
} from "@rendel/client/play";
import { useCallback, useEffect, useMemo, useState, useSyncExternalStore } from "react";
import { useAt, useSession } from "./index.tsx";

/** Takes a value and what one may do with it together: drawn again when the value changes. */
function useHandle<V, H>(at: string, of: (session: Around, at: string) => H) {
  const session = useSession();
  const value = useAt<V>(at);
  const handle = useMemo(() => session && of(session, at), [session, of, at]);
  return [value, handle] as const;
}

type Around = Parameters<typeof seatsAt>[0];

/** The seats at a path, and what one may do about them; `undefined` until the session is entered. */
export function useSeats(
  at: string,
): readonly [Seats | undefined, ReturnType<typeof seatsAt> | undefined] {
  return useHandle<Seats, ReturnType<typeof seatsAt>>(at, seatsAt);
}

/** The turn at a path. */
export function useTurn(
  at: string,
): readonly [Turn | undefined, ReturnType<typeof turnAt> | undefined] {
  return useHandle<Turn, ReturnType<typeof turnAt>>(at, turnAt);
}

/** The source of chance at a path. */
export function useChance(
  at: string,
): readonly [Chance | undefined, ReturnType<typeof chanceAt> | undefined] {
  return useHandle<Chance, ReturnType<typeof chanceAt>>(at, chanceAt);
}

/** The deadline at a path. */
export function useDeadline(
  at: string,
): readonly [Deadline | undefined, ReturnType<typeof deadlineAt> | undefined] {
  return useHandle<Deadline, ReturnType<typeof deadlineAt>>(at, deadlineAt);
}

/** The clock at a path. Where it is follows from the service's time: `positionAt(clock, now)`. */
export function useClock(
  at: string,
): readonly [Clock | undefined, ReturnType<typeof clockAt> | undefined] {
  return useHandle<Clock, ReturnType<typeof clockAt>>(at, clockAt);
}

/**
 * The service's time in milliseconds since 1970 UTC, drawn again every so often: 250 ms where nothing
 * is said. The same on every screen, within what the network lets be known.
 */
export function useServiceTime(everyMs = 250): number | undefined {
  const session = useSession();
  const [now, setNow] = useState<number>();
  useEffect(() => {
    if (session === undefined) return;
    const time = serviceTime(session);
    const tick = () => setNow(time.isKnown ? time.now() : undefined);
    const timer = setInterval(tick, everyMs);
    tick();
    return () => {
      clearInterval(timer);
      time.end();
    };
  }, [session, everyMs]);
  return now;
}

/** The ballot at a path, what one may do about it, and what one has cast. */
export function useBallot(
  at: string,
): readonly [Ballot | undefined, ReturnType<typeof ballotAt> | undefined, Choice | undefined] {
  const [value, handle] = useHandle<Ballot, ReturnType<typeof ballotAt>>(at, ballotAt);
  const session = useSession();
  const listen = useCallback(
    (heard: () => void) => {
      const ends = [session?.listen("state", heard), session?.listen("standing", heard)];
      return () => {
        for (const end of ends) end?.();
      };
    },
    [session],
  );
  const own = useSyncExternalStore(
    listen,
    () => handle?.own,
    () => undefined,
  );
  return [value, handle, own];
}
