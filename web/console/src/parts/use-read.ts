import { useCallback, useEffect, useState } from "react";

export type Read<T> = { value: T | undefined; error: Error | undefined; again: () => void };

/**
 * Reads once, and again every `every` milliseconds and when asked; the last value stays while a new
 * one is under way.
 */
export function useRead<T>(read: () => Promise<T>, every?: number): Read<T> {
  const [value, setValue] = useState<T>();
  const [error, setError] = useState<Error>();
  const [round, setRound] = useState(0);
  // biome-ignore lint/correctness/useExhaustiveDependencies: a new round is what reads again
  useEffect(() => {
    let isCurrent = true;
    const run = () =>
      read().then(
        (next) => {
          if (isCurrent) {
            setValue(next);
            setError(undefined);
          }
        },
        (reason: unknown) => {
          if (isCurrent) setError(reason instanceof Error ? reason : new Error(String(reason)));
        },
      );
    run();
    const timer = every === undefined ? undefined : setInterval(run, every);
    return () => {
      isCurrent = false;
      clearInterval(timer);
    };
  }, [read, every, round]);
  return { value, error, again: useCallback(() => setRound((round) => round + 1), []) };
}
