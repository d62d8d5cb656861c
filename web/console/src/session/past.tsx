import { Slider } from "radix-ui";
import { useCallback, useState } from "react";
import type { Charter } from "../api.ts";
import { useSigned } from "../auth.tsx";
import { Button, Mishap, Panel, Waiting } from "../parts/ui.tsx";
import { useRead } from "../parts/use-read.ts";
import { counted, shown } from "./words.ts";

/** A slider over the journal, and what has changed between the place it stands at and now. */
export function Past({
  session,
  seq,
  stops,
  mayRevert,
}: {
  session: string;
  seq: number;
  /** Where gestures end, newest first: the slider goes from one to the next. */
  stops: readonly number[];
  mayRevert: boolean;
}) {
  const { api, token } = useSigned();
  const first = useRead(
    useCallback(
      async () => (token === undefined ? (await api.session(session)).kept_from : 0),
      [api, session, token],
    ),
  ).value;
  const [chosen, setChosen] = useState<number>();
  const at = Math.min(chosen ?? seq, seq);
  const from = first ?? 0;
  return (
    <Panel
      title="Past"
      aside={chosen === undefined ? "at present" : `at #${at}, ${counted(seq - at, "update")} ago`}
    >
      <div className="flex items-center gap-3 px-4 py-3">
        <span className="num font-mono text-xs text-faint">#{from}</span>
        <Slider.Root
          className="relative flex h-5 min-w-0 flex-1 touch-none items-center select-none data-disabled:opacity-45"
          min={from}
          max={Math.max(seq, from + 1)}
          step={1}
          value={[at]}
          disabled={seq <= from}
          onValueChange={([next = seq]) => {
            const stop =
              next < at
                ? stops.find((stop) => stop <= next)
                : stops.findLast((stop) => stop >= next);
            const snapped = next >= (stops.at(-1) ?? seq) ? (stop ?? next) : next;
            setChosen(snapped >= seq ? undefined : snapped);
          }}
        >
          <Slider.Track className="relative h-1 grow rounded-full bg-sunk">
            <Slider.Range className="absolute h-full rounded-full bg-leaf" />
          </Slider.Track>
          <Slider.Thumb
            aria-label="Place in the journal"
            aria-valuetext={`update ${at} of ${seq}`}
            className="block size-4 rounded-full border-2 border-leaf bg-sheet"
          />
        </Slider.Root>
        <span className="num font-mono text-xs text-faint">#{seq}</span>
        <Button disabled={chosen === undefined} onClick={() => setChosen(undefined)}>
          Now
        </Button>
      </div>
      {chosen === undefined ? (
        <p className="border-t border-rule px-4 py-2 text-xs text-faint">
          Move the slider to see what was there then, and what has changed since.
        </p>
      ) : (
        <Since session={session} at={at} seq={seq} mayRevert={mayRevert} />
      )}
    </Panel>
  );
}

/** Whether whoever looks may take the session back: the backend, and a role with the power. */
export function mayRevert(charter: Charter | undefined, role: string | undefined): boolean {
  return role === undefined || (charter?.roles?.[role]?.powers ?? []).includes("revert");
}

function Since({
  session,
  at,
  seq,
  mayRevert,
}: {
  session: string;
  at: number;
  seq: number;
  mayRevert: boolean;
}) {
  const { api } = useSigned();
  const [told, setTold] = useState<string>();
  const revert = (path?: string) =>
    api.revert(session, at, path).then(
      (update) =>
        setTold(update === undefined ? "Nothing was to be changed." : `Done as #${update.seq}.`),
      (error: Error) => setTold(error.message),
    );
  const { value, error, again } = useRead(
    useCallback(() => api.diff(session, at, seq), [api, session, at, seq]),
  );
  if (error !== undefined) return <Mishap retry={again}>{error.message}</Mishap>;
  if (value === undefined) return <Waiting>Reading the past …</Waiting>;
  if (value.differences.length === 0)
    return (
      <p className="border-t border-rule px-4 py-2 text-sm text-soft">
        {told ?? "The state was the same then."}
      </p>
    );
  return (
    <>
      <ol
        className="max-h-72 overflow-y-auto border-t border-rule text-sm"
        aria-label="Changes since"
      >
        {value.differences.map(({ at: path, was, now }) => (
          <li key={path} className="border-b border-rule px-4 py-1.5 last:border-0">
            <p className="flex items-baseline justify-between gap-2 font-mono text-xs text-faint">
              <span className="truncate">{path === "" ? "/" : path}</span>
              {mayRevert && path !== "" && (
                <button
                  type="button"
                  className="shrink-0 font-sans text-leaf underline"
                  onClick={() => void revert(path)}
                >
                  Take back
                </button>
              )}
            </p>
            <p className="grid gap-x-3 font-mono text-xs break-words sm:grid-cols-2">
              <span className="text-soft">
                <span className="text-faint">then </span>
                {was === undefined ? "nothing" : shown(was, 120)}
              </span>
              <span>
                <span className="text-faint">now </span>
                {now === undefined ? "nothing" : shown(now, 120)}
              </span>
            </p>
          </li>
        ))}
      </ol>
      {mayRevert && (
        <div className="flex min-h-12 flex-wrap items-center gap-x-3 gap-y-1 border-t border-rule px-4 py-2">
          <Button onClick={() => void revert()}>Take all of it back to #{at}</Button>
          <span role="status" className="text-xs text-faint">
            {told ?? "A new update, which can be undone."}
          </span>
        </div>
      )}
    </>
  );
}
