import { AlertDialog } from "radix-ui";
import { useState } from "react";
import type { Charter } from "../api.ts";
import { useSigned } from "../auth.tsx";
import { Button, Dot, Mishap, Select, Waiting } from "../parts/ui.tsx";
import { doingInTabs } from "./company.tsx";
import type { Seat } from "./use-participant.ts";

/** Who is here and what each is doing. Who may remove somebody finds it at their row. */
export function RosterList({
  session,
  seat,
  charter,
}: {
  session: string;
  seat: Seat;
  charter: Charter | undefined;
}) {
  const signed = useSigned();
  const you = seat.you;
  if (you === undefined) return <Waiting>Waiting for the session …</Waiting>;
  const mayRemove =
    signed.token === undefined || charter?.roles?.[you.role]?.powers?.includes("remove") === true;
  return (
    <ul className="max-h-64 overflow-y-auto py-1 text-sm">
      {seat.roster.map((here) => {
        const words = here.away === true ? "away" : doingInTabs(seat, here, charter);
        return (
          <li
            key={here.id}
            className="grid min-h-12 grid-cols-[1fr_auto] items-center gap-x-2 px-4 py-1"
          >
            <span
              className={`flex min-w-0 items-center gap-2 ${here.away === true ? "opacity-60" : ""}`}
            >
              <Dot hue={here.hue} />
              <span className="truncate font-medium">{here.name}</span>
              {here.id === you.id && <span className="text-xs text-faint">you</span>}
              {here.connections > 1 && (
                <span className="num text-xs text-faint" title={`${here.connections} tabs`}>
                  ×{here.connections}
                </span>
              )}
            </span>
            <span className="flex items-center gap-1 text-xs text-faint">
              {here.role}
              {mayRemove && here.id !== you.id && (
                <Remove session={session} id={here.id} name={here.name} />
              )}
            </span>
            <span className="col-span-2 min-h-4 truncate pl-4.5 text-xs text-faint" title={words}>
              {words}
            </span>
          </li>
        );
      })}
    </ul>
  );
}

const TIMES = [
  { value: "0", text: "may come back at once" },
  { value: "600", text: "stays out for 10 minutes" },
  { value: "86400", text: "stays out for a day" },
];

function Remove({ session, id, name }: { session: string; id: string; name: string }) {
  const { api } = useSigned();
  const [seconds, setSeconds] = useState("0");
  const [fault, setFault] = useState<string>();
  const [isOpen, setIsOpen] = useState(false);
  const remove = async () => {
    try {
      await api.remove(session, id, Number(seconds));
      setIsOpen(false);
    } catch (error) {
      setFault(error instanceof Error ? error.message : String(error));
    }
  };
  return (
    <AlertDialog.Root open={isOpen} onOpenChange={setIsOpen}>
      <AlertDialog.Trigger asChild>
        <Button
          tone="quiet"
          className="h-5 px-1 text-xs text-faint hover:text-brick"
          aria-label={`Remove ${name}`}
        >
          Remove
        </Button>
      </AlertDialog.Trigger>
      <AlertDialog.Portal>
        <AlertDialog.Overlay className="fixed inset-0 z-10 bg-black/40" />
        <AlertDialog.Content className="fixed top-1/3 left-1/2 z-20 w-[min(26rem,calc(100vw-2rem))] -translate-x-1/2 rounded-box border border-rule bg-sheet p-4 shadow-lg">
          <AlertDialog.Title className="text-base font-semibold">Remove {name}?</AlertDialog.Title>
          <AlertDialog.Description className="mt-1 text-sm text-soft">
            Every tab of theirs is let go of, and it is written down who did it. What they changed
            stays.
          </AlertDialog.Description>
          <div className="mt-3">
            <Select
              label="For how long"
              value={seconds}
              options={TIMES}
              onChange={setSeconds}
              className="w-full"
            />
          </div>
          {fault !== undefined && <Mishap>{fault}</Mishap>}
          <div className="mt-4 flex justify-end gap-2">
            <AlertDialog.Cancel asChild>
              <Button>Keep them</Button>
            </AlertDialog.Cancel>
            <Button tone="danger" className="border-brick" onClick={remove}>
              Remove
            </Button>
          </div>
        </AlertDialog.Content>
      </AlertDialog.Portal>
    </AlertDialog.Root>
  );
}
