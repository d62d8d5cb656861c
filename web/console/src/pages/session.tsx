import type { Settled } from "@rendel/client/parts";
import { useCallback, useMemo, useState } from "react";
import { Link } from "wouter";
import type { Charter } from "../api.ts";
import { useSigned } from "../auth.tsx";
import { Button, Mishap, Panel, Select, Waiting } from "../parts/ui.tsx";
import { useRead } from "../parts/use-read.ts";
import { Agreement } from "../session/agreement.tsx";
import { AnswerLine } from "../session/answers.tsx";
import { CompanyContext } from "../session/company.tsx";
import { Connections } from "../session/connections.tsx";
import { Journal, stopsOf } from "../session/journal.tsx";
import { Merged } from "../session/merged.tsx";
import { mayRevert, Past } from "../session/past.tsx";
import { layerOf, Plan } from "../session/plan.tsx";
import { QueryPanel } from "../session/queries.tsx";
import { roleNames, widestRole } from "../session/roles.ts";
import { RosterList } from "../session/roster.tsx";
import { StandingBadge } from "../session/standing.tsx";
import { StateEditor } from "../session/state-editor.tsx";
import { Steering } from "../session/steering.tsx";
import { tableOf } from "../session/tables.ts";
import { AnchoringContext } from "../session/text-editor.tsx";
import { UndoButtons, UndoKeys } from "../session/undo.tsx";
import { type Seat, useParticipant } from "../session/use-participant.ts";
import { useToken } from "../session/use-token.ts";
import { clock, counted } from "../session/words.ts";

export function SessionPage({ id }: { id: string }) {
  const { api, token: own } = useSigned();
  const charter = useRead(useCallback(() => api.charter(id), [api, id]));
  const [chosen, setChosen] = useState<string>();
  const role =
    own?.role ?? chosen ?? (charter.value === undefined ? undefined : widestRole(charter.value));
  const { token, error } = useToken(id, "Console", role);
  const seat = useParticipant(id, "Console", token);
  const journal = useJournal(id, seat.you === undefined ? undefined : seat.seq, seat.updates);
  const failed = charter.error ?? error;
  const layer = useMemo(
    () => (charter.value === undefined ? undefined : layerOf(charter.value)),
    [charter.value],
  );

  const table = tableOf(charter.value);

  return (
    <div className="mx-auto flex w-full max-w-7xl flex-1 flex-col gap-4 px-4 py-4">
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2">
        <div className="min-w-0">
          <h1 className="truncate text-xl font-semibold tracking-tight">
            {charter.value?.title ?? id}
          </h1>
          <p className="font-mono text-xs text-faint">
            {id} · {charter.value?.charter ?? "…"} v{charter.value?.version ?? "…"} · #{seat.seq}
          </p>
        </div>
        <div className="ml-auto flex flex-wrap items-center gap-3">
          <UndoButtons seat={seat} />
          <StandingBadge seat={seat} />
          {own === undefined && charter.value !== undefined && role !== undefined && (
            <Select
              label="Role"
              value={role}
              options={roleNames(charter.value).map((name) => ({
                value: name,
                text: `as ${name}`,
              }))}
              onChange={setChosen}
            />
          )}
          {table !== undefined && (
            <Link
              href={`/sessions/${id}/table`}
              className="rounded-small border border-rule bg-sheet px-3 py-1.5 text-sm font-medium hover:bg-sunk"
            >
              {table.verb}
            </Link>
          )}
          <Link
            href={`/sessions/${id}/side-by-side`}
            className="rounded-small border border-leaf bg-leaf px-3 py-1.5 text-sm font-medium text-on-leaf"
          >
            Side by side
          </Link>
        </div>
      </div>
      {failed !== undefined && <Mishap retry={charter.again}>{failed.message}</Mishap>}
      {seat.standing === "ended" && seat.why !== undefined && <Mishap>{seat.why}</Mishap>}
      {seat.you !== undefined && seat.session !== undefined && seat.session !== "open" && (
        <p role="status" className="rounded-small bg-amber-wash px-3 py-2 text-sm text-amber">
          This session is {seat.session}: it can be looked at, and nothing changes but by who is
          left out of that.
        </p>
      )}
      <div className="grid min-h-0 flex-1 gap-4 lg:grid-cols-[minmax(0,1fr)_22rem]">
        <div className="flex min-w-0 flex-col gap-4">
          {layer !== undefined && charter.value !== undefined && seat.view !== undefined && (
            <UndoKeys seat={seat}>
              <Plan charter={charter.value} layer={layer} seat={seat} />
            </UndoKeys>
          )}
          {charter.value !== undefined && (
            <QueryPanel charter={charter.value} role={seat.you?.role ?? role} parts={seat.parts} />
          )}
          <Panel title="State" aside="what your role sees, with your pending edits over it">
            {seat.view === undefined || charter.value === undefined ? (
              <Waiting>Waiting for the session …</Waiting>
            ) : (
              <UndoKeys seat={seat}>
                <CompanyContext value={{ session: id, seat, charter: charter.value }}>
                  <AnchoringContext value={seat}>
                    <StateEditor charter={charter.value} view={seat.view} propose={seat.propose} />
                  </AnchoringContext>
                </CompanyContext>
              </UndoKeys>
            )}
            <div className="min-h-12 border-t border-rule px-4 py-2.5" aria-live="polite">
              {seat.returned !== undefined && seat.standing === "present" && (
                <Merged returned={seat.returned} answers={seat.answers} />
              )}
              {seat.answers[0] === undefined ? (
                <p className="text-sm text-faint">What becomes of your edits is told here.</p>
              ) : (
                <AnswerLine answer={seat.answers[0]} />
              )}
              {seat.checking > 0 && (
                <p className="text-sm text-amber">
                  {counted(seat.checking, "proposal")} of yours waits for a check; nobody else sees
                  it yet.
                </p>
              )}
            </div>
          </Panel>
        </div>
        <div className="flex min-h-0 flex-col gap-4">
          <Panel
            title="Here"
            aside={seat.you === undefined ? undefined : counted(seat.roster.length, "participant")}
          >
            <RosterList session={id} seat={seat} charter={charter.value} />
            <Cues charter={charter.value} seat={seat} />
            <Agreement session={id} seat={seat} />
          </Panel>
          {own === undefined && charter.value !== undefined && (
            <Steering session={id} charter={charter.value} seat={seat} />
          )}
          <Past
            session={id}
            seq={seat.seq}
            stops={stopsOf(journal)}
            mayRevert={mayRevert(charter.value, own?.role)}
          />
          <Panel
            title="Journal"
            aside={`#${seat.seq}`}
            className="max-h-[60vh] lg:max-h-[calc(100dvh-20rem)]"
          >
            <Journal
              updates={journal}
              roster={seat.roster}
              charter={charter.value}
              propose={seat.propose}
            />
          </Panel>
        </div>
      </div>
      {own === undefined && <Connections session={id} />}
    </div>
  );
}

/** The cues that one may send, and the last that came. */
function Cues({ charter, seat }: { charter: Charter | undefined; seat: Seat }) {
  const role = seat.you?.role ?? "";
  const cues = Object.entries(charter?.cues ?? {}).filter(
    ([, cue]) => cue.data === undefined && cue.to !== "participant",
  );
  const own = cues.filter(([, cue]) => cue.from === undefined || cue.from.includes(role));
  if (cues.length === 0) return null;
  const by = seat.roster.find((one) => one.id === seat.cue?.by)?.name ?? seat.cue?.by;
  return (
    <div className="flex min-h-11 flex-wrap items-center gap-2 border-t border-rule px-4 py-1.5 text-xs">
      {own.map(([name]) => (
        <Button key={name} className="h-7 px-2 text-xs" onClick={() => void seat.call(name)}>
          {name}
        </Button>
      ))}
      <span role="status" className="ml-auto truncate text-faint">
        {seat.cue === undefined ? "no call yet" : `${by}: ${seat.cue.name}, ${clock(seat.cue.at)}`}
      </span>
    </div>
  );
}

/** The updates before the arrival, read once, and those since, as they come. */
function useJournal(id: string, seq: number | undefined, since: Settled[]): Settled[] {
  const { api } = useSigned();
  const [arrival, setArrival] = useState<number>();
  if (arrival === undefined && seq !== undefined) setArrival(seq);
  const read = useCallback(async () => {
    if (arrival === undefined || arrival === 0) return [];
    const updates = await api.journal(id, Math.max(1, arrival - 99));
    return updates.reverse();
  }, [api, id, arrival]);
  const before = useRead(read).value;
  return useMemo(() => {
    const known = new Set(since.map((update) => update.seq));
    return [...since, ...(before ?? []).filter((update) => !known.has(update.seq))];
  }, [since, before]);
}
