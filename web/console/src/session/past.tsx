import { Slider } from "radix-ui";
import { useCallback, useState } from "react";
import { useSigned } from "../auth.tsx";
import { Button, Mishap, Panel, Waiting } from "../parts/ui.tsx";
import { useRead } from "../parts/use-read.ts";
import { counted, shown } from "./words.ts";

/** A slider over the journal, and what has changed between the place it stands at and now. */
export function Past({ session, seq }: { session: string; seq: number }) {
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
          onValueChange={([next]) => setChosen(next === seq ? undefined : next)}
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
        <Since session={session} at={at} seq={seq} />
      )}
    </Panel>
  );
}

function Since({ session, at, seq }: { session: string; at: number; seq: number }) {
  const { api } = useSigned();
  const { value, error, again } = useRead(
    useCallback(() => api.diff(session, at, seq), [api, session, at, seq]),
  );
  if (error !== undefined) return <Mishap retry={again}>{error.message}</Mishap>;
  if (value === undefined) return <Waiting>Reading the past …</Waiting>;
  if (value.differences.length === 0)
    return (
      <p className="border-t border-rule px-4 py-2 text-sm text-soft">
        The state was the same then.
      </p>
    );
  return (
    <ol
      className="max-h-72 overflow-y-auto border-t border-rule text-sm"
      aria-label="Changes since"
    >
      {value.differences.map(({ at: path, was, now }) => (
        <li key={path} className="border-b border-rule px-4 py-1.5 last:border-0">
          <p className="font-mono text-xs text-faint">{path === "" ? "/" : path}</p>
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
  );
}
