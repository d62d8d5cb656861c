import { useEffect, useState } from "react";
import type { Charter } from "../api.ts";
import { useSigned } from "../auth.tsx";
import { Dot, Mishap, Select, Switch, Waiting } from "../parts/ui.tsx";
import { AnswerLine } from "./answers.tsx";
import { CompanyContext } from "./company.tsx";
import { Merged } from "./merged.tsx";
import { roleNames, widestRole } from "./roles.ts";
import { StandingBadge } from "./standing.tsx";
import { StateEditor } from "./state-editor.tsx";
import { AnchoringContext } from "./text-editor.tsx";
import { UndoButtons, UndoKeys } from "./undo.tsx";
import { type Seat, useParticipant } from "./use-participant.ts";
import { useToken } from "./use-token.ts";
import { updateInWords } from "./words.ts";

/** What a pane tells the page. */
export type PaneReport = { name: string; seat: Seat };

/** One participant with a connection of their own. */
export function Pane({
  session,
  charter,
  name,
  index,
  report,
}: {
  session: string;
  charter: Charter;
  name: string;
  index: number;
  report: (name: string, next: PaneReport | undefined) => void;
}) {
  const { token: own } = useSigned();
  const [role, setRole] = useState(() => widestRole(charter));
  const { token, error } = useToken(session, name, own?.role ?? role);
  const seat = useParticipant(session, name, token);
  const shownName = seat.you?.name ?? name;
  const { standing, seq, unsent, latency, confirmed } = seat;

  // The page compares panes: it hears of each change, and of the end. The seat is new at each
  // drawing; these are what changes in it.
  // biome-ignore lint/correctness/useExhaustiveDependencies: as said above
  useEffect(() => {
    report(name, { name: shownName, seat });
  }, [
    report,
    name,
    shownName,
    standing,
    seq,
    unsent,
    latency,
    confirmed,
    seat.answers,
    seat.undoable,
  ]);
  useEffect(() => () => report(name, undefined), [report, name]);

  const last = seat.updates[0];
  const isOwn = last !== undefined && last.by === seat.you?.id;
  return (
    <section
      aria-label={`Pane ${index + 1}, ${shownName}`}
      className="flex min-w-0 flex-col rounded-box border border-rule bg-sheet"
    >
      <header className="flex flex-wrap items-center gap-x-3 gap-y-1 border-b border-rule px-4 py-2">
        <h2 className="flex items-center gap-2 text-sm font-semibold">
          <Dot hue={seat.you?.hue ?? 90} />
          {shownName}
        </h2>
        <StandingBadge seat={seat} />
        <span
          className="num ml-auto w-14 text-xs text-faint"
          title="The way to the service and back"
        >
          {latency === undefined ? "– ms" : `${latency.toFixed(1)} ms`}
        </span>
        <div className="flex w-full items-center justify-between gap-3">
          {own === undefined ? (
            <Select
              label={`Role of ${shownName}`}
              value={role}
              options={roleNames(charter).map((one) => ({ value: one, text: `as ${one}` }))}
              onChange={setRole}
            />
          ) : (
            <span className="text-xs text-faint">as {own.role}</span>
          )}
          <UndoButtons seat={seat} compact />
          <Switch label="offline" checked={standing === "offline"} onChange={seat.setOffline} />
        </div>
      </header>
      {error !== undefined && <Mishap>{error.message}</Mishap>}
      {seat.repaired !== undefined && (
        <p
          role="status"
          className="border-b border-rule bg-amber-wash px-4 py-1.5 text-xs text-amber"
        >
          This replica differed and was repaired at #{seat.repaired.seq}.
        </p>
      )}
      {standing === "ended" && seat.why !== undefined && <Mishap>{seat.why}</Mishap>}
      {seat.view === undefined ? (
        <Waiting>Waiting for the session …</Waiting>
      ) : (
        <UndoKeys seat={seat} className="max-h-[calc(100dvh-28rem)] min-h-48 overflow-y-auto">
          <CompanyContext value={{ session, seat, charter }}>
            <AnchoringContext value={seat}>
              <StateEditor charter={charter} view={seat.view} propose={seat.propose} compact />
            </AnchoringContext>
          </CompanyContext>
        </UndoKeys>
      )}
      <footer
        className="flex min-h-20 flex-col gap-1 border-t border-rule bg-ground px-4 py-2"
        aria-live="polite"
      >
        {seat.returned !== undefined && standing === "present" && (
          <Merged returned={seat.returned} answers={seat.answers} />
        )}
        {seat.answers[0] === undefined ? (
          <p className="text-sm text-faint">Nothing proposed here yet.</p>
        ) : (
          <AnswerLine answer={seat.answers[0]} />
        )}
        {last !== undefined && !isOwn && (
          <p className="truncate text-xs text-faint">
            saw #{last.seq} of {last.by}: <span className="font-mono">{updateInWords(last)}</span>
          </p>
        )}
      </footer>
    </section>
  );
}
