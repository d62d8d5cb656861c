import { useCallback, useState } from "react";
import { Link } from "wouter";
import type { Charter } from "../api.ts";
import { useSigned } from "../auth.tsx";
import { Badge, Button, Dot, Empty, Mishap, Select, Waiting } from "../parts/ui.tsx";
import { useRead } from "../parts/use-read.ts";
import { roleNames } from "../session/roles.ts";
import { StandingBadge } from "../session/standing.tsx";
import { type Table, tableOf } from "../session/tables.ts";
import { type Answer, useParticipant } from "../session/use-participant.ts";
import { useToken } from "../session/use-token.ts";

const NAMES = ["Oda", "Tobin"];

/** What a session is for, done by one or two people on one page. */
export function TablePage({ id }: { id: string }) {
  const { api, token: own } = useSigned();
  const charter = useRead(useCallback(() => api.charter(id), [api, id]));
  const [count, setCount] = useState(own === undefined ? 2 : 1);
  const table = tableOf(charter.value);
  return (
    <div className="mx-auto flex w-full max-w-7xl flex-1 flex-col gap-3 px-4 py-4">
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2">
        <h1 className="min-w-0 truncate text-lg font-semibold tracking-tight">
          <Link href={`/sessions/${id}`} className="hover:underline">
            {charter.value?.title ?? id}
          </Link>
        </h1>
        {own === undefined && (
          <Button className="ml-auto" onClick={() => setCount(count === 1 ? 2 : 1)}>
            {count === 1 ? "Two at the table" : "One at the table"}
          </Button>
        )}
      </div>
      {charter.error !== undefined && (
        <Mishap retry={charter.again}>{charter.error.message}</Mishap>
      )}
      {charter.value === undefined ? (
        charter.error === undefined && <Waiting>Waiting for the session …</Waiting>
      ) : table === undefined ? (
        <Empty title="This session has no table">
          <Link href={`/sessions/${id}`} className="text-leaf underline">
            To its state
          </Link>
        </Empty>
      ) : (
        <div
          className={`grid w-full items-start gap-4 ${count === 1 ? "mx-auto max-w-2xl" : "lg:grid-cols-2"}`}
        >
          {NAMES.slice(0, count).map((name) => (
            <Place
              key={name}
              session={id}
              name={name}
              charter={charter.value as Charter}
              table={table}
            />
          ))}
        </div>
      )}
    </div>
  );
}

function Place({
  session,
  name,
  charter,
  table: { Shown, role: played },
}: {
  session: string;
  name: string;
  charter: Charter;
  table: Table;
}) {
  const { token: own } = useSigned();
  const [role, setRole] = useState(() => played ?? roleNames(charter)[0] ?? "");
  const { token, error } = useToken(session, name, own?.role ?? role);
  const seat = useParticipant(session, name, token);
  const shownName = seat.you?.name ?? name;
  return (
    <section aria-label={shownName} className="min-w-0 rounded-box border border-rule bg-sheet">
      <header className="flex min-h-11 flex-wrap items-center gap-3 border-b border-rule px-5 py-1.5">
        <h2 className="flex items-center gap-2 text-sm font-semibold">
          <Dot hue={seat.you?.hue ?? 90} />
          {shownName}
        </h2>
        <StandingBadge seat={seat} />
        {own === undefined && (
          <div className="ml-auto">
            <Select
              label={`Role of ${shownName}`}
              value={role}
              options={roleNames(charter).map((one) => ({ value: one, text: `as ${one}` }))}
              onChange={setRole}
            />
          </div>
        )}
      </header>
      {error !== undefined && <Mishap>{error.message}</Mishap>}
      {seat.standing === "ended" && seat.why !== undefined && <Mishap>{seat.why}</Mishap>}
      {seat.view === undefined ? (
        <Waiting>Waiting for the session …</Waiting>
      ) : (
        <Shown charter={charter} seat={seat} />
      )}
      <footer className="min-h-11 border-t border-rule px-5 py-2.5" aria-live="polite">
        {seat.answers[0] === undefined ? (
          <p className="text-sm text-faint">What becomes of what you do is told here.</p>
        ) : (
          <Became answer={seat.answers[0]} />
        )}
      </footer>
    </section>
  );
}

/** What became of what one did last, in a few words. */
function Became({ answer }: { answer: Answer }) {
  if ("problem" in answer)
    return (
      <p className="text-sm">
        <Badge meaning="brick">not done</Badge> {answer.problem.detail}
      </p>
    );
  const seq = "update" in answer ? answer.update.seq : answer.seq;
  return (
    <p className="text-sm text-soft tabular-nums">
      <Badge meaning="leaf">done</Badge> #{seq}, in {answer.ms.toFixed(1)} ms
    </p>
  );
}
