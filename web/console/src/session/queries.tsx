import type { Connection, Fields, Json } from "@rendel/client/parts";
import { type Ask, type Following, follow, type Row } from "@rendel/client/queries";
import { useEffect, useMemo, useState } from "react";
import type { Charter } from "../api.ts";
import { Empty, Input, Mishap, Panel, Select, Waiting } from "../parts/ui.tsx";
import { counted, shown } from "./words.ts";

type FollowedRows<V = Json> = Pick<Following<V>, "rows" | "end" | "problem">;

/** A query as the panel has it. */
type Draft = { from: string; where: string; order: string[]; limit: number };

const OWN = "";

/** Rows that follow the session: the queries of the charter, and others where the role may ask them. */
export function QueryPanel({
  charter,
  role,
  parts,
}: {
  charter: Charter;
  role: string | undefined;
  parts: Connection | undefined;
}) {
  const names = Object.keys(charter.queries ?? {});
  const mayAsk = charter.roles?.[role ?? ""]?.powers?.includes("ask") ?? false;
  const tables = tablesOf(charter.state);
  const [chosen, setChosen] = useState(names[0] ?? OWN);
  const [given, setGiven] = useState<{ [name: string]: string }>({});
  const [draft, setDraft] = useState<Draft>({
    from: tables[0] ?? "",
    where: "",
    order: [],
    limit: 20,
  });
  if (names.length === 0 && (!mayAsk || tables.length === 0)) return null;
  const isOwn = !names.includes(chosen);
  const declared = charter.queries?.[chosen];
  const ask: Ask = isOwn
    ? { of: shapeOf(draft) }
    : { name: chosen, with: valuesOf(given, declared) };
  const sort = (field: string) =>
    setDraft({
      ...draft,
      order:
        draft.order[0] === field ? [`-${field}`] : draft.order[0] === `-${field}` ? [] : [field],
    });
  return (
    <Panel title="Query" aside="rows that follow the session">
      <div className="flex flex-wrap items-end gap-x-3 gap-y-2 border-b border-rule px-4 py-3">
        <Select
          label="Query"
          value={isOwn ? OWN_VALUE : chosen}
          className="w-44"
          options={[
            ...names.map((name) => ({ value: name, text: name })),
            ...(mayAsk && tables.length > 0 ? [{ value: OWN_VALUE, text: "one of your own" }] : []),
          ]}
          onChange={(value) => setChosen(value === OWN_VALUE ? OWN : value)}
        />
        {isOwn ? (
          <>
            <Select
              label="From"
              value={draft.from}
              className="w-40"
              options={tables.map((path) => ({ value: path, text: path }))}
              onChange={(from) => setDraft({ ...draft, from, order: [] })}
            />
            <Input
              aria-label="Where"
              placeholder="where, such as record.crates > 3"
              className="w-64 max-w-full flex-1 font-mono text-xs"
              value={draft.where}
              onChange={(event) => setDraft({ ...draft, where: event.target.value })}
            />
          </>
        ) : (
          Object.keys(declared?.with ?? {}).map((name) => (
            <span key={name} className="flex items-center gap-2 text-xs text-soft">
              {name}
              <Input
                aria-label={name}
                className="w-32"
                placeholder="any"
                value={given[name] ?? ""}
                onChange={(event) => setGiven({ ...given, [name]: event.target.value })}
              />
            </span>
          ))
        )}
      </div>
      <Result parts={parts} ask={ask} order={isOwn ? draft.order : undefined} sort={sort} />
      {isOwn && (
        <details className="border-t border-rule px-4 py-2.5 text-xs">
          <summary className="cursor-pointer text-soft">In the charter</summary>
          <pre className="mt-2 overflow-x-auto rounded-small bg-sunk p-3 font-mono">
            {tomlOf(draft)}
          </pre>
        </details>
      )}
    </Panel>
  );
}

const OWN_VALUE = " own";

function Result({
  parts,
  ask,
  order,
  sort,
}: {
  parts: Connection | undefined;
  ask: Ask;
  order: string[] | undefined;
  sort: (field: string) => void;
}) {
  const key = useSettled(JSON.stringify(ask));
  const { rows, end, problem } = useRowsOf(parts, key);
  const columns = useMemo(() => columnsOf(rows ?? []), [rows]);
  if (problem !== undefined) return <Mishap>{problem.detail}</Mishap>;
  if (rows === undefined) return <Waiting>Asking …</Waiting>;
  if (rows.length === 0)
    return <Empty title="No rows">Records that match come here by themselves.</Empty>;
  return (
    <>
      <div className="max-h-[28rem] overflow-auto">
        <table className="w-full border-collapse text-sm">
          <thead className="sticky top-0 bg-sheet text-left text-xs text-faint">
            <tr>
              <th className="w-10 px-4 py-2 text-right font-medium">
                <span className="sr-only">Place</span>
              </th>
              <th className="hidden px-2 py-2 font-medium sm:table-cell">path</th>
              {columns.map((column) => (
                <th
                  key={column}
                  className={`px-2 py-2 font-medium last:pr-4 ${side(rows, column)}`}
                  aria-sort={sorted(order, column)}
                >
                  {order === undefined ? (
                    column
                  ) : (
                    <SortButton name={column} order={order[0]} sort={sort} />
                  )}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {rows.map((row, index) => (
              <tr key={row.path} className="border-t border-rule">
                <td className="px-4 py-1.5 text-right text-xs text-faint tabular-nums">
                  {index + 1}
                </td>
                <td className="hidden max-w-48 truncate px-2 py-1.5 font-mono text-xs text-soft sm:table-cell">
                  {row.path}
                </td>
                {columns.map((column) => (
                  <td
                    key={column}
                    className={`max-w-56 truncate px-2 py-1.5 tabular-nums last:pr-4 ${side(rows, column)}`}
                  >
                    {cell(row.value, column)}
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      <p role="status" className="border-t border-rule px-4 py-2 text-xs text-faint">
        {counted(rows.length, "row")}
        {end !== undefined && ", and there may be more"}
      </p>
    </>
  );
}

const NONE = { rows: undefined, end: undefined, problem: undefined };

/** The rows of a query, which is given as JSON. */
export function useRowsOf<V = Json>(parts: Connection | undefined, key: string): FollowedRows<V> {
  const [now, setNow] = useState<FollowedRows<V>>(NONE);
  useEffect(() => {
    setNow(NONE);
    if (parts === undefined) return;
    const it = follow<V>({ parts }, JSON.parse(key) as Ask);
    it.listen(() => setNow({ rows: it.rows, end: it.end, problem: it.problem }));
    return it.leave;
  }, [parts, key]);
  return now;
}

/** What is typed is asked for once the typing pauses. */
export function useSettled(value: string): string {
  const [settled, setSettled] = useState(value);
  useEffect(() => {
    const timer = setTimeout(() => setSettled(value), 300);
    return () => clearTimeout(timer);
  }, [value]);
  return settled;
}

/** The paths of the maps and lists of a state. */
function tablesOf(fields: Fields): string[] {
  return Object.entries(fields)
    .filter(([, field]) => field.kind === "map" || field.kind === "list")
    .map(([name]) => `/${name}`);
}

const shapeOf = ({ from, where, order, limit }: Draft) => ({
  from,
  order,
  limit,
  ...(where.trim() !== "" && { where }),
});

/** The parameters that are given; what is no JSON is a text. */
function valuesOf(
  given: { [name: string]: string },
  declared: { with?: { [name: string]: Json } } | undefined,
): { [name: string]: Json } {
  const named = Object.keys(declared?.with ?? {}).filter((name) => (given[name] ?? "") !== "");
  return Object.fromEntries(named.map((name) => [name, parsed(given[name] ?? "")]));
}

function parsed(text: string): Json {
  try {
    return JSON.parse(text) as Json;
  } catch {
    return text;
  }
}

/** The fields with one value each, in the order in which they first come. */
function columnsOf(rows: readonly Row[]): string[] {
  const isSmall = (value: Json) => typeof value !== "object" || value === null;
  const names = rows.flatMap(({ value }) =>
    value !== null && typeof value === "object" && !Array.isArray(value)
      ? Object.entries(value).flatMap(([name, of]) => (isSmall(of) ? [name] : []))
      : [],
  );
  return [...new Set(names)];
}

function cell(value: Json, column: string): string {
  if (value === null || typeof value !== "object" || Array.isArray(value)) return "";
  const of = value[column];
  if (of === undefined || of === null) return "–";
  return typeof of === "string" ? of : shown(of);
}

/** The name of a column, to be pressed to sort by it: up, down, not at all. */
export function SortButton({
  name,
  order,
  sort,
}: {
  name: string;
  order: string | undefined;
  sort: (field: string) => void;
}) {
  return (
    <button
      type="button"
      className="rounded-small hover:text-ink"
      title={`Sort by ${name}`}
      onClick={() => sort(name)}
    >
      {name}
      <span aria-hidden className="ml-1 inline-block w-3">
        {order === name ? "↑" : order === `-${name}` ? "↓" : ""}
      </span>
    </button>
  );
}

/** Numbers stand to the right. */
function side(rows: readonly Row[], column: string): string {
  const isNumber = ({ value }: Row) =>
    typeof (value as { [name: string]: Json })[column] === "number";
  return rows.every(isNumber) ? "text-right" : "";
}

export function sorted(order: string[] | undefined, column: string) {
  if (order?.[0] === column) return "ascending" as const;
  return order?.[0] === `-${column}` ? ("descending" as const) : undefined;
}

/** The query as a charter declares it. */
function tomlOf({ from, where, order, limit }: Draft): string {
  const text = (value: string) => JSON.stringify(value);
  return [
    "[queries.NAME]",
    `from  = ${text(from)}`,
    ...(where.trim() === "" ? [] : [`where = ${text(where)}`]),
    ...(order.length === 0 ? [] : [`order = [${order.map(text).join(", ")}]`]),
    `limit = ${limit}`,
  ].join("\n");
}
