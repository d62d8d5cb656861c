import { Dialog } from "radix-ui";
import { type ReactNode, useCallback, useContext, useState } from "react";
import type { Why } from "../api.ts";
import { useSigned } from "../auth.tsx";
import { Badge, Button, Mishap, Waiting } from "../parts/ui.tsx";
import { useRead } from "../parts/use-read.ts";
import { CompanyContext } from "./company.tsx";
import { clock, effectInWords, meaningOf, shown } from "./words.ts";

/** The name of a value, to be pressed to learn how it came about. */
export function WhyName({ path, children }: { path: string; children: ReactNode }) {
  const [isOpen, setIsOpen] = useState(false);
  const company = useContext(CompanyContext);
  if (company === undefined) return <>{children}</>;
  return (
    <Dialog.Root open={isOpen} onOpenChange={setIsOpen}>
      <Dialog.Trigger
        className="max-w-full cursor-help truncate rounded-small text-left underline decoration-rule decoration-dotted underline-offset-4 hover:decoration-leaf"
        title={`Why is ${path} what it is?`}
      >
        {children}
      </Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-10 bg-black/40" />
        <Dialog.Content className="fixed top-[10dvh] left-1/2 z-20 flex max-h-[80dvh] w-[min(40rem,calc(100vw-2rem))] -translate-x-1/2 flex-col rounded-box border border-rule bg-sheet shadow-lg">
          <header className="flex items-baseline gap-3 border-b border-rule px-4 py-3">
            <Dialog.Title className="text-base font-semibold">How it came about</Dialog.Title>
            <Dialog.Description className="min-w-0 truncate font-mono text-xs text-faint">
              {path}
            </Dialog.Description>
            <Dialog.Close asChild>
              <Button className="ml-auto">Close</Button>
            </Dialog.Close>
          </header>
          {isOpen && <Chain session={company.session} path={path} />}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

function Chain({ session, path }: { session: string; path: string }) {
  const { api } = useSigned();
  const { value, error, again } = useRead(
    useCallback(() => api.why(session, path), [api, session, path]),
  );
  if (error !== undefined) return <Mishap retry={again}>{error.message}</Mishap>;
  if (value === undefined) return <Waiting>Looking back …</Waiting>;
  return <ChainOf why={value} />;
}

function ChainOf({ why }: { why: Why }) {
  const company = useContext(CompanyContext);
  const name = (id: string) =>
    company?.seat.roster.find((one) => one.id === id)?.name ?? (id === "" ? "somebody" : id);
  return (
    <div className="min-h-0 overflow-y-auto text-sm">
      <p className="border-b border-rule px-4 py-2.5">
        <span className="text-faint">It is </span>
        <span className="font-mono text-xs break-words">{shown(why.value, 300)}</span>
        <span className="text-faint"> at #{why.seq}.</span>
      </p>
      {(why.runs ?? []).length > 0 && (
        <p className="border-b border-rule px-4 py-2.5 leading-7 break-words">
          {why.runs?.map((run, index) => (
            <span
              // biome-ignore lint/suspicious/noArrayIndexKey: runs have no name of their own
              key={index}
              className="mr-0.5 rounded-small bg-sunk px-1"
              title={run.by === undefined ? "from before" : `${name(run.by)}, #${run.seq}`}
            >
              {run.text}
              <sub className="ml-0.5 text-xs text-faint">
                {run.by === undefined ? "before" : name(run.by)}
              </sub>
            </span>
          ))}
        </p>
      )}
      {why.made.length === 0 && (
        <p className="px-4 py-3 text-soft">It is as it was from the beginning.</p>
      )}
      <ol aria-label="Updates that made it">
        {why.made.map((made) => (
          <li key={made.seq} className="border-b border-rule px-4 py-2 last:border-0">
            <div className="flex flex-wrap items-baseline gap-2">
              <span className="num w-12 shrink-0 font-mono text-xs text-faint">#{made.seq}</span>
              <span className="font-medium">{name(made.by)}</span>
              {made.rule !== undefined && <Badge meaning="plain">rule {made.rule}</Badge>}
              {made.undoes !== undefined && (
                <Badge meaning="slate">
                  {made.undoes.way} of #{made.undoes.updates.at(-1)}
                </Badge>
              )}
              {made.undone_by !== undefined && (
                <Badge meaning="amber">undone by #{made.undone_by}</Badge>
              )}
              <time className="ml-auto text-xs text-faint tabular-nums">{clock(made.at)}</time>
            </div>
            <p className="mt-0.5 pl-14 font-mono text-xs break-words text-soft">
              {made.effects.map(effectInWords).join(" · ")}
            </p>
            {made.note !== undefined && <p className="pl-14 text-xs text-faint">“{made.note}”</p>}
            {made.verdicts?.map((verdict) => (
              <p key={verdict.edit} className="mt-1 pl-14 text-xs">
                <Badge meaning={meaningOf(verdict.verdict)}>{verdict.verdict}</Badge>{" "}
                <span className="text-soft">{verdict.because}</span>
              </p>
            ))}
          </li>
        ))}
      </ol>
      {(why.lost ?? []).map((lost) => (
        <p key={lost.seq} className="border-t border-rule px-4 py-2 text-xs">
          <span className="num mr-2 font-mono text-faint">#{lost.seq}</span>
          <span className="font-medium">{name(lost.by)}</span> <Badge meaning="brick">lost</Badge>{" "}
          <span className="text-soft">{lost.verdict.because}</span>
        </p>
      ))}
      {(why.parts ?? []).length > 0 && (
        <dl className="grid grid-cols-[minmax(0,1fr)_auto] gap-x-4 gap-y-1 border-t border-rule px-4 py-2.5 text-xs">
          {why.parts?.map((part) => (
            <div key={part.at} className="contents">
              <dt className="truncate font-mono text-soft">{part.at}</dt>
              <dd className="num font-mono text-faint">
                {part.seq === 0 ? "as it began" : `#${part.seq}`}
              </dd>
            </div>
          ))}
        </dl>
      )}
      {!why.is_whole && (
        <p className="border-t border-rule px-4 py-2 text-xs text-faint">
          Older updates are not kept any more, or are more than are told at once.
        </p>
      )}
    </div>
  );
}
