import type { Act, Edit, Json } from "@rendel/client/parts";
import { type Clock, type Deadline, positionAt, type Turn, timeLeft } from "@rendel/client/play";
import { useContext, useEffect, useState } from "react";
import type { Field } from "../api.ts";
import { Badge, Button, Input } from "../parts/ui.tsx";
import { CompanyContext } from "./company.tsx";
import { isMembers } from "./pointer.ts";
import { clock as ofDay } from "./words.ts";

type Props = { field: Field; path: string; value: Json; propose: (edits: Edit[]) => void };

/** The service's time, drawn again every so often while it matters. */
export function useNow(now: (() => number) | undefined, isMoving: boolean, every = 200): number {
  const [, draw] = useState(0);
  useEffect(() => {
    if (!isMoving) return;
    const timer = setInterval(() => draw((count) => count + 1), every);
    return () => clearInterval(timer);
  }, [isMoving, every]);
  return now?.() ?? Date.now();
}

/** A time that is left, as on a clock: `4:07`, and tenths in the last ten seconds. */
export function remaining(ms: number): string {
  if (ms < 10_000) return `0:0${(Math.floor(ms / 100) / 10).toFixed(1)}`;
  const seconds = Math.floor(ms / 1_000);
  const [hours, minutes] = [Math.floor(seconds / 3_600), Math.floor(seconds / 60) % 60];
  const two = (number: number) => String(number).padStart(2, "0");
  const short = `${two(minutes)}:${two(seconds % 60)}`;
  return hours > 0 ? `${hours}:${short}` : short.replace(/^0(?=\d:)/, "");
}

/** How long a turn has, where it has a time. */
export function TurnTime({ turn }: { turn: Turn }) {
  const company = useContext(CompanyContext);
  const now = useNow(company?.seat.now, turn.due !== undefined);
  const left = timeLeft(turn, now);
  if (turn.late === true) return <Badge meaning="amber">its time is over</Badge>;
  if (left === undefined) return null;
  return <span className="num text-xs text-soft">{remaining(left)} left</span>;
}

/** A deadline: how long is left, and what one may do about it. */
export function DeadlineEditor({ path, value, propose }: Props) {
  const company = useContext(CompanyContext);
  const [time, setTime] = useState("");
  const deadline = isMembers(value) ? (value as unknown as Deadline) : undefined;
  const isPending = deadline?.due != null && deadline.fired === null;
  const now = useNow(company?.seat.now, isPending);
  if (deadline === undefined) return null;
  const act = (act: Act) => propose([{ at: path, ...act }]);
  const left = timeLeft(deadline, now);
  return (
    <div className="flex flex-wrap items-center gap-2">
      <output className="num min-w-14 text-sm font-semibold" aria-label={path}>
        {left !== undefined
          ? remaining(left)
          : deadline.fired !== null
            ? "over"
            : deadline.in !== undefined
              ? remaining(deadline.in)
              : "none"}
      </output>
      <span className="text-xs text-faint">
        {deadline.fired !== null
          ? `fired at ${ofDay(deadline.fired)}`
          : deadline.due !== null
            ? `at ${ofDay(deadline.due)}`
            : deadline.in !== undefined
              ? "once it begins"
              : "no time is set"}
      </span>
      <form
        className="flex items-center gap-1.5"
        onSubmit={(event) => {
          event.preventDefault();
          act({ op: "set", in: time.trim() });
          setTime("");
        }}
      >
        <Input
          className="w-20"
          aria-label={`Time from now for ${path}`}
          placeholder="10m"
          value={time}
          onChange={(event) => setTime(event.target.value)}
        />
        <Button type="submit" disabled={time.trim() === ""}>
          Set
        </Button>
      </form>
      {isPending && (
        <>
          <Button onClick={() => act({ op: "extend", by: "1m" })}>+1 min</Button>
          <Button tone="quiet" onClick={() => act({ op: "cancel" })}>
            Cancel
          </Button>
        </>
      )}
    </div>
  );
}

/** A clock: where it is, and what one may do about it. */
export function ClockEditor({ path, value, propose }: Props) {
  const company = useContext(CompanyContext);
  const clock = isMembers(value) ? (value as unknown as Clock) : undefined;
  const isRunning = clock?.running === true;
  const now = useNow(company?.seat.now, isRunning, 100);
  if (clock === undefined) return null;
  const act = (act: Act) => propose([{ at: path, ...act }]);
  const position = positionAt(clock, now);
  return (
    <div className="flex flex-wrap items-center gap-2">
      <output className="num min-w-16 text-sm font-semibold" aria-label={path}>
        {position < 0 ? `−${remaining(-position)}` : remaining(position)}
      </output>
      <span className="num text-xs text-faint">rate {clock.rate}</span>
      <Button onClick={() => act({ op: isRunning ? "stop" : "start" })}>
        {isRunning ? "Stop" : "Start"}
      </Button>
      <Button tone="quiet" onClick={() => act({ op: "seek", to: clock.min ?? 0 })}>
        To {remaining(clock.min ?? 0)}
      </Button>
    </div>
  );
}
