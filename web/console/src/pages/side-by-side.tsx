import { useCallback, useState } from "react";
import { Link } from "wouter";
import { useSigned } from "../auth.tsx";
import { Button, Mishap, Waiting } from "../parts/ui.tsx";
import { useRead } from "../parts/use-read.ts";
import { CollidePanel } from "../session/collide.tsx";
import { Outsider } from "../session/outsider.tsx";
import { Pane, type PaneReport } from "../session/pane.tsx";
import { Thread } from "../session/thread.tsx";

const NAMES = ["Oda", "Tobin", "Anouk", "Ishaan"];

export function SideBySidePage({ id }: { id: string }) {
  const { api, token: own } = useSigned();
  const charter = useRead(useCallback(() => api.charter(id), [api, id]));
  const [count, setCount] = useState(2);
  const [reports, setReports] = useState<Record<string, PaneReport>>({});
  const report = useCallback((name: string, next: PaneReport | undefined) => {
    setReports(({ [name]: _gone, ...rest }) =>
      next === undefined ? rest : { ...rest, [name]: next },
    );
  }, []);
  const names = NAMES.slice(0, count);
  const seats = names.flatMap((name) => (reports[name] === undefined ? [] : [reports[name]]));

  return (
    <div className="flex flex-1 flex-col gap-3 px-4 py-4">
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2">
        <div className="min-w-0">
          <h1 className="truncate text-lg font-semibold tracking-tight">
            <Link href={`/sessions/${id}`} className="hover:underline">
              {charter.value?.title ?? id}
            </Link>{" "}
            <span className="font-normal text-faint">side by side</span>
          </h1>
        </div>
        <div className="ml-auto flex items-center gap-2">
          <Button disabled={count <= 2} onClick={() => setCount(count - 1)}>
            One fewer
          </Button>
          <Button disabled={count >= NAMES.length} onClick={() => setCount(count + 1)}>
            One more
          </Button>
        </div>
      </div>
      {charter.error !== undefined && (
        <Mishap retry={charter.again}>{charter.error.message}</Mishap>
      )}
      {charter.value === undefined ? (
        charter.error === undefined && <Waiting>Waiting for the session …</Waiting>
      ) : (
        <>
          <Thread session={id} charter={charter.value} seats={seats} expected={count} />
          <CollidePanel charter={charter.value} seats={seats} />
          <div
            className="grid flex-1 items-start gap-3 sm:grid-cols-2 data-[count='3']:lg:grid-cols-3 data-[count='4']:xl:grid-cols-4"
            data-count={count}
          >
            {names.map((name, index) => (
              <Pane
                key={name}
                session={id}
                charter={charter.value as NonNullable<typeof charter.value>}
                name={name}
                index={index}
                report={report}
              />
            ))}
          </div>
          {own === undefined && <Outsider session={id} charter={charter.value} />}
        </>
      )}
    </div>
  );
}
