import { uuid7 } from "@rendel/client/parts";
import { useId, useState } from "react";
import type { Charter } from "../api.ts";
import { Badge, Button, Dot, Empty, Input, Mishap, Select, Waiting } from "../parts/ui.tsx";
import { useRowsOf } from "./queries.tsx";
import type { Seat } from "./use-participant.ts";
import { counted } from "./words.ts";

type Picker = { name: string; row: string; crates: number };
type Remark = { by: string; to: string | null; says: string };
type Board = {
  "in-all": number;
  "by-row": { [row: string]: number };
  remarks: { id: string; value: Remark }[];
};

/** Remarks to everybody that are shown, the newest first. */
const LATEST = 20;
const EVERYBODY = " everybody";

/** The picking of a day, as one who picks sees it: totals, the ten best, remarks. */
export function PickingBoard({ seat }: { charter: Charter; seat: Seat }) {
  const board = seat.view as unknown as Board;
  const [row, setRow] = useState<string>();
  const rows = Object.entries(board["by-row"]).sort(([one], [two]) => one.localeCompare(two));
  const most = Math.max(1, ...rows.map(([, crates]) => crates));
  return (
    <div className="flex flex-col gap-5 p-5">
      <section aria-label="Totals">
        <p className="text-xs text-faint">picked today</p>
        <p className="text-xl font-semibold tracking-tight tabular-nums">
          {counted(board["in-all"], "crate")}
        </p>
        <ul className="mt-3 grid gap-x-6 gap-y-0.5 sm:grid-cols-2">
          {rows.map(([name, crates]) => (
            <li key={name}>
              <button
                type="button"
                aria-pressed={row === name}
                onClick={() => setRow(row === name ? undefined : name)}
                className={`grid w-full grid-cols-[6.5rem_1fr_2.5rem] items-center gap-2 rounded-small px-2 py-1 text-left text-sm hover:bg-sunk ${
                  row === name ? "bg-leaf-wash font-medium" : ""
                }`}
              >
                <span className="truncate">{name}</span>
                <span aria-hidden className="h-1.5 rounded-full bg-sunk">
                  <span
                    className={`block h-full rounded-full ${row === name ? "bg-leaf" : "bg-faint"}`}
                    style={{ width: `${(crates / most) * 100}%` }}
                  />
                </span>
                <span className="num text-right">{crates}</span>
              </button>
            </li>
          ))}
        </ul>
      </section>
      <Best seat={seat} row={row} clear={() => setRow(undefined)} />
      <Remarks seat={seat} board={board} />
    </div>
  );
}

/** The ten best, of everybody or of one row. */
function Best({ seat, row, clear }: { seat: Seat; row: string | undefined; clear: () => void }) {
  const ask = { name: "leaders", with: row === undefined ? {} : { row } };
  const { rows, problem } = useRowsOf<Picker>(seat.parts, JSON.stringify(ask));
  const mayPick = seat.you?.role !== "viewer";
  const pick = (path: string) =>
    seat.propose([
      { at: `${path}/crates`, op: "add", by: 1 },
      { at: "/crates", op: "add", by: 1 },
    ]);
  return (
    <section aria-label="The ten best" className="rounded-small border border-rule">
      <header className="flex min-h-10 items-center justify-between gap-3 border-b border-rule px-3">
        <h3 className="text-sm font-medium">The ten best{row === undefined ? "" : ` of ${row}`}</h3>
        {row !== undefined && (
          <Button tone="quiet" onClick={clear}>
            Of all rows
          </Button>
        )}
      </header>
      {problem !== undefined && <Mishap>{problem.detail}</Mishap>}
      {rows === undefined && problem === undefined && <Waiting>Asking …</Waiting>}
      {rows?.length === 0 && <Empty title="Nobody has picked here yet" />}
      <ol className="min-h-96">
        {rows?.map(({ path, value }, at) => (
          <li
            key={path}
            className="grid min-h-9.5 grid-cols-[1.25rem_1fr_2.5rem_3rem] items-center gap-2 border-b border-rule px-3 text-sm last:border-0"
          >
            <span className="num text-right text-xs text-faint">{at + 1}</span>
            <span className="grid min-w-0 py-1 sm:grid-cols-[1fr_6.5rem] sm:items-center sm:gap-2">
              <span className="truncate font-medium">{value.name}</span>
              <span className="truncate text-xs text-soft sm:text-sm">{value.row}</span>
            </span>
            <span className="num text-right font-semibold">{value.crates}</span>
            <span className="text-right">
              {mayPick && (
                <Button
                  className="px-2"
                  aria-label={`One more crate for ${value.name}`}
                  onClick={() => pick(path)}
                >
                  +1
                </Button>
              )}
            </span>
          </li>
        ))}
      </ol>
    </section>
  );
}

/** What others say to one, and to everybody. */
function Remarks({ seat, board }: { seat: Seat; board: Board }) {
  const { rows } = useRowsOf<Remark>(seat.parts, JSON.stringify({ name: "remarks-to-me" }));
  const nameOf = (who: string) => seat.roster.find(({ id }) => id === who)?.name ?? who;
  const toAll = board.remarks.filter(({ value }) => value.to === null).slice(-LATEST);
  const mine = (rows ?? []).map(({ path, value }) => ({ id: path, value }));
  return (
    <section aria-label="Remarks" className="rounded-small border border-rule">
      <header className="flex min-h-10 items-center justify-between gap-3 border-b border-rule px-3">
        <h3 className="text-sm font-medium">Remarks</h3>
        {seat.checking > 0 && <Badge meaning="slate">being checked</Badge>}
      </header>
      <h4 className="px-3 pt-2 text-xs text-faint">to you</h4>
      <Said
        remarks={[...mine].reverse()}
        seat={seat}
        nameOf={nameOf}
        none="Nobody has written to you."
      />
      <h4 className="border-t border-rule px-3 pt-2 text-xs text-faint">to everybody</h4>
      <Said remarks={[...toAll].reverse()} seat={seat} nameOf={nameOf} none="Nothing said yet." />
      {seat.you?.role !== "viewer" && <Say seat={seat} />}
    </section>
  );
}

function Said({
  remarks,
  seat,
  nameOf,
  none,
}: {
  remarks: { id: string; value: Remark }[];
  seat: Seat;
  nameOf: (who: string) => string;
  none: string;
}) {
  if (remarks.length === 0) return <p className="px-3 pt-0.5 pb-2 text-sm text-faint">{none}</p>;
  return (
    <ul className="max-h-40 overflow-y-auto px-3 pt-0.5 pb-2">
      {remarks.map(({ id, value }) => (
        <li key={id} className="flex items-baseline gap-2 py-0.5 text-sm">
          <Dot hue={seat.roster.find((one) => one.id === value.by)?.hue ?? 90} />
          <span className="font-medium">{nameOf(value.by)}</span>
          <span className="min-w-0 text-soft wrap-anywhere">{value.says}</span>
        </li>
      ))}
    </ul>
  );
}

/** A remark to somebody who is here, or to everybody. Others see it once it has been checked. */
function Say({ seat }: { seat: Seat }) {
  const [to, setTo] = useState(EVERYBODY);
  const [says, setSays] = useState("");
  const field = useId();
  const others = seat.roster.filter(({ id }) => id !== seat.you?.id);
  const known = others.some(({ id }) => id === to) ? to : EVERYBODY;
  return (
    <form
      className="flex flex-wrap items-center gap-2 border-t border-rule p-3"
      onSubmit={(event) => {
        event.preventDefault();
        const value = { to: known === EVERYBODY ? null : known, says: says.trim() };
        seat.propose([{ at: "/remarks", op: "insert", id: uuid7(), before: null, value }]);
        setSays("");
      }}
    >
      <Select
        label="To whom"
        value={known}
        className="w-36"
        options={[
          { value: EVERYBODY, text: "to everybody" },
          ...others.map(({ id, name }) => ({ value: id, text: `to ${name}` })),
        ]}
        onChange={setTo}
      />
      <label htmlFor={field} className="sr-only">
        Your remark
      </label>
      <Input
        id={field}
        className="min-w-40 flex-1"
        maxLength={280}
        placeholder="what you want to say"
        value={says}
        onChange={(event) => setSays(event.target.value)}
      />
      <Button type="submit" tone="main" disabled={says.trim() === ""}>
        Say
      </Button>
    </form>
  );
}
