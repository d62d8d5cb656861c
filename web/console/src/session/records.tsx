import type { Edit, Json } from "@rendel/client/parts";
import { useVirtualizer } from "@tanstack/react-virtual";
import { Popover } from "radix-ui";
import { type ReactNode, useContext, useEffect, useMemo, useRef, useState } from "react";
import type { Field, Fields } from "../api.ts";
import { Button, Empty, Input, Mishap, Select } from "../parts/ui.tsx";
import { CompanyContext, PlaceMark } from "./company.tsx";
import { Pages } from "./pages.ts";
import { isMembers, member, pointerToken } from "./pointer.ts";
import { SortButton, sorted, useSettled } from "./queries.tsx";
import { WhyName } from "./why.tsx";
import { counted } from "./words.ts";

type Propose = (edits: Edit[]) => void;

/** How a field of a record, or all of a record, is edited. */
type Editors = {
  value: (field: Field, path: string, value: Json) => ReactNode;
  record: (path: string, value: Json) => ReactNode;
};

/** Above this many only those records are drawn that can be seen. */
const MANY = 50;

/** Kinds of which each record has one value: what rows can be sorted and filtered by. */
const SINGLE = new Set(["register", "counter"]);

/** A map of records: as a table where they fit into rows, or else one below the other. */
export function Records({
  title,
  each,
  value,
  path,
  propose,
  asTable,
  editors,
}: {
  title: ReactNode;
  each: Fields;
  value: Json;
  path: string;
  propose: Propose;
  asTable: boolean;
  editors: Editors;
}) {
  const members = isMembers(value) ? value : {};
  const ids = Object.keys(members);
  const asked = useAsked(path, ids.length > MANY);
  // Each record as it is here, with what is pending over it, where the service says it stands.
  const shown = asked.ids?.filter((id) => id in members) ?? ids;
  const isFiltered = Object.keys(asked.filters).length > 0;
  const List = asTable ? Table : Cards;
  return (
    <div className="border-b border-rule last:border-0">
      <div className="flex items-end justify-between gap-4 px-4 pt-3 pb-1">
        {title}
        <div role="status" className="text-xs text-faint tabular-nums">
          {isFiltered &&
            asked.ids !== undefined &&
            `${shown.length}${asked.hasMore ? " and more" : ""} of `}
          {counted(ids.length, "record")}
        </div>
      </div>
      {asked.problem !== undefined && <Mishap>{asked.problem}</Mishap>}
      <List
        each={each}
        ids={shown}
        members={members}
        path={path}
        propose={propose}
        asked={asked}
        editors={editors}
        isLong={ids.length > MANY}
      />
      <div className={`px-4 pb-3 ${ids.length > MANY ? "pt-3" : "pt-1"}`}>
        <PutForm path={path} propose={propose} />
      </div>
    </div>
  );
}

type Filter = { how: keyof typeof HOW; text: string };

/** How a field is compared with what somebody has typed, in CEL. */
const HOW = {
  is: (field: string, text: string) =>
    literal(text) === undefined
      ? `${field} == ${JSON.stringify(text)}`
      : `(${field} == ${literal(text)} || ${field} == ${JSON.stringify(text)})`,
  "is not": (field: string, text: string) => `!(${HOW.is(field, text)})`,
  contains: (field: string, text: string) => `${field}.contains(${JSON.stringify(text)})`,
  above: (field: string, text: string) => `${field} > ${literal(text) ?? JSON.stringify(text)}`,
  below: (field: string, text: string) => `${field} < ${literal(text) ?? JSON.stringify(text)}`,
};

/** A number, a truth or nothing, where a text reads so. */
function literal(text: string): string | undefined {
  return /^(-?\d+(\.\d+)?|true|false|null)$/.test(text.trim()) ? text.trim() : undefined;
}

const unescaped = (token: string) => token.replaceAll("~1", "/").replaceAll("~0", "~");

/** The records of a large map that a role asks the service for, sorted and filtered. */
function useAsked(path: string, isLarge: boolean) {
  const company = useContext(CompanyContext);
  const [order, setOrder] = useState<string>();
  const [filters, setFilters] = useState<{ [field: string]: Filter }>({});
  const role = company?.charter.roles?.[company.seat.you?.role ?? ""];
  const mayAsk = isLarge && (role?.powers?.includes("ask") ?? false);
  const parts = company?.seat.parts;
  const where = Object.entries(filters)
    .filter(([, { text }]) => text !== "")
    .map(([field, { how, text }]) => HOW[how](`record.${field}`, text))
    .join(" && ");
  const key = useSettled(
    order === undefined && where === ""
      ? ""
      : JSON.stringify({
          of: {
            from: path,
            ...(where && { where }),
            order: order ? [order] : [],
            limit: 500,
            fields: [],
          },
        }),
  );
  const [pages, setPages] = useState<Pages>();
  const [, redraw] = useState(0);
  useEffect(() => {
    setPages(undefined);
    if (!mayAsk || parts === undefined || key === "") return;
    const made = new Pages(parts, JSON.parse(key), () => redraw((drawn) => drawn + 1));
    setPages(made);
    return () => made.leave();
  }, [mayAsk, parts, key]);
  return {
    order,
    filters,
    may: mayAsk,
    sort: (field: string) =>
      setOrder(order === field ? `-${field}` : order === `-${field}` ? undefined : field),
    filter: (field: string, filter: Filter | undefined) => {
      const { [field]: _, ...rest } = filters;
      setFilters(filter === undefined ? rest : { ...rest, [field]: filter });
    },
    ids: pages?.rows?.map((row) => unescaped(row.path.slice(path.length + 1))),
    hasMore: pages?.hasMore ?? false,
    more: () => pages?.more(),
    problem: pages?.problem?.detail,
  };
}

type ListProps = {
  each: Fields;
  ids: string[];
  members: { [id: string]: Json };
  path: string;
  propose: Propose;
  asked: ReturnType<typeof useAsked>;
  editors: Editors;
  isLong: boolean;
};

/** Which of many items are drawn: those that can be seen, a few around them, and the one in use. */
function useSeen({ ids, asked, isLong }: ListProps, height: number) {
  const box = useRef<HTMLDivElement>(null);
  const [used, setUsed] = useState<string>();
  const usedAt = used === undefined ? -1 : ids.indexOf(used);
  const virtual = useVirtualizer({
    count: ids.length,
    enabled: isLong,
    getScrollElement: () => box.current,
    getItemKey: (index) => ids[index] ?? index,
    estimateSize: () => height,
    overscan: 6,
    rangeExtractor: ({ startIndex, endIndex, overscan, count }) => {
      const from = Math.max(0, startIndex - overscan);
      const to = Math.min(count - 1, endIndex + overscan);
      const range = Array.from({ length: to - from + 1 }, (_, at) => from + at);
      if (usedAt >= 0 && usedAt < from) range.unshift(usedAt);
      if (usedAt > to) range.push(usedAt);
      return range;
    },
  });
  const items = virtual.getVirtualItems();
  const last = items.at(-1)?.index ?? 0;
  const { more } = asked;
  useEffect(() => {
    if (last >= ids.length - 100) more();
  });
  // The heights of what is not drawn, before each item that is and behind the last.
  let upTo = 0;
  const seen = items.map(({ index, start, end }) => {
    const gap = start - upTo;
    upTo = end;
    return { index, gap };
  });
  const all = ids.map((_, index) => ({ index, gap: 0 }));
  return {
    box,
    seen: isLong ? seen : all,
    rest: isLong ? virtual.getTotalSize() - upTo : 0,
    measure: isLong ? virtual.measureElement : undefined,
    use: (id: string | undefined) => setUsed(id),
  };
}

function Nothing({ asked }: { asked: ListProps["asked"] }) {
  return Object.keys(asked.filters).length > 0 ? (
    <Empty title="No record matches">Records that do come here by themselves.</Empty>
  ) : (
    <p className="px-4 py-2 text-sm text-faint">No record yet.</p>
  );
}

function Cards(props: ListProps) {
  const { ids, members, path, propose, editors, isLong } = props;
  const { box, seen, rest, measure, use } = useSeen(props, 160);
  if (ids.length === 0) return <Nothing asked={props.asked} />;
  return (
    <div ref={box} className={isLong ? "max-h-[28rem] overflow-y-auto border-y border-rule" : ""}>
      <ul className="px-4 pb-1">
        {seen.map(({ index, gap }) => {
          const id = ids[index] ?? "";
          const at = `${path}/${pointerToken(id)}`;
          return (
            <li
              key={id}
              data-index={index}
              ref={measure}
              onFocus={() => use(id)}
              onBlur={() => use(undefined)}
              style={{ marginTop: gap }}
              className="py-0.75"
            >
              <div className="rounded-small border border-rule">
                <div className="flex items-center justify-between gap-2 border-b border-rule bg-ground pl-4">
                  <span className="flex min-w-0 items-center gap-2">
                    <span className="truncate font-mono text-xs">
                      <WhyName path={at}>{id}</WhyName>
                    </span>
                    <PlaceMark path={at} />
                  </span>
                  <DropButton id={id} path={path} propose={propose} />
                </div>
                {editors.record(at, members[id] ?? null)}
              </div>
            </li>
          );
        })}
        <li aria-hidden style={{ height: rest }} />
      </ul>
    </div>
  );
}

function Table(props: ListProps) {
  const { each, ids, members, path, propose, asked, editors, isLong } = props;
  const { box, seen, rest, measure, use } = useSeen(props, 45);
  // Texts need the width of the table: each has a row below the rest of its record.
  const [columns, texts] = useMemo(() => {
    const all = Object.entries(each);
    const isText = ([, field]: [string, Field]) => field.kind === "text";
    return [all.filter((one) => !isText(one)), all.filter(isText)];
  }, [each]);
  const isEmpty = ids.length === 0;
  if (isEmpty && !isLong) return <Nothing asked={asked} />;
  const editor = (id: string, name: string, field: Field) =>
    editors.value(
      field,
      `${path}/${pointerToken(id)}/${pointerToken(name)}`,
      member(members[id] ?? null, name),
    );
  return (
    <div
      ref={box}
      className={isLong ? "max-h-[28rem] overflow-auto border-b border-rule" : "overflow-x-auto"}
    >
      <table className="w-full text-sm" aria-rowcount={isLong ? ids.length : undefined}>
        <thead
          className={`text-left text-xs text-faint ${isLong ? "sticky top-0 z-10 bg-sheet shadow-[inset_0_-1px_0_var(--color-rule)]" : ""}`}
        >
          <tr>
            <th className="px-4 py-1 font-medium">id</th>
            {columns.map(([name, field]) => (
              <th
                key={name}
                className="px-2 py-1 font-medium"
                aria-sort={sorted(asked.order === undefined ? undefined : [asked.order], name)}
              >
                <span className="inline-flex items-center gap-1">
                  {asked.may && SINGLE.has(field.kind) ? (
                    <>
                      <SortButton name={name} order={asked.order} sort={asked.sort} />
                      <FilterButton
                        name={name}
                        filter={asked.filters[name]}
                        change={(filter) => asked.filter(name, filter)}
                      />
                    </>
                  ) : (
                    name
                  )}
                </span>
                {field.merge !== undefined && field.merge !== "last" && (
                  <span className="font-normal">, {field.merge}</span>
                )}
              </th>
            ))}
            <th className="px-2">
              <span className="sr-only">what can be done</span>
            </th>
          </tr>
        </thead>
        {seen.map(({ index, gap }) => {
          const id = ids[index] ?? "";
          const at = `${path}/${pointerToken(id)}`;
          return [
            gap > 0 && <Gap key={`before ${id}`} height={gap} />,
            <tbody
              key={id}
              data-index={index}
              ref={measure}
              onFocus={() => use(id)}
              onBlur={() => use(undefined)}
              className="border-t border-rule"
            >
              <tr aria-rowindex={isLong ? index + 1 : undefined}>
                <td className="max-w-36 truncate px-4 py-1.5 font-mono text-xs" title={id}>
                  <WhyName path={at}>{id}</WhyName>
                  <PlaceMark path={at} />
                </td>
                {columns.map(([name, field]) => (
                  <td key={name} className="min-w-24 px-2 py-1.5">
                    {editor(id, name, field)}
                    <PlaceMark path={`${at}/${pointerToken(name)}`} />
                  </td>
                ))}
                <td className="px-2 text-right">
                  <DropButton id={id} path={path} propose={propose} />
                </td>
              </tr>
              {texts.map(([name, field]) => (
                <tr key={name}>
                  <td className="px-4 pb-2 align-top text-xs text-faint">
                    <WhyName path={`${at}/${pointerToken(name)}`}>{name}</WhyName>
                    <PlaceMark path={`${at}/${pointerToken(name)}`} />
                  </td>
                  <td colSpan={columns.length + 1} className="px-2 pb-2">
                    {editor(id, name, field)}
                  </td>
                </tr>
              ))}
            </tbody>,
          ];
        })}
        {rest > 0 && <Gap height={rest} />}
      </table>
      {isEmpty && <Nothing asked={asked} />}
    </div>
  );
}

function Gap({ height }: { height: number }) {
  return (
    <tbody aria-hidden>
      <tr style={{ height }} />
    </tbody>
  );
}

/** Opens what rows are filtered by in a column. */
function FilterButton({
  name,
  filter,
  change,
}: {
  name: string;
  filter: Filter | undefined;
  change: (filter: Filter | undefined) => void;
}) {
  const { how, text } = filter ?? { how: "is" as const, text: "" };
  return (
    <Popover.Root>
      <Popover.Trigger
        aria-label={`Filter by ${name}`}
        title={filter === undefined ? `Filter by ${name}` : `${name} ${how} ${text}`}
        className={`rounded-small p-0.5 hover:text-ink ${filter === undefined ? "" : "bg-leaf-wash text-leaf"}`}
      >
        <svg viewBox="0 0 12 12" className="size-3" aria-hidden>
          <path
            d="M1 2h10M3 6h6M5 10h2"
            stroke="currentColor"
            strokeWidth="1.5"
            strokeLinecap="round"
          />
        </svg>
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          align="start"
          sideOffset={4}
          collisionPadding={8}
          aria-label={`Filter by ${name}`}
          className="z-20 flex flex-wrap items-center gap-2 rounded-small border border-rule bg-sheet p-2 text-sm shadow-lg"
        >
          <Select
            label={`How ${name} is compared`}
            value={how}
            className="w-28"
            options={Object.keys(HOW).map((value) => ({ value, text: value }))}
            onChange={(next) => change({ how: next as Filter["how"], text })}
          />
          <Input
            autoFocus
            aria-label={`What ${name} is compared with`}
            className="w-36"
            value={text}
            onChange={(event) => change({ how, text: event.target.value })}
          />
          <Popover.Close asChild>
            <Button tone="quiet" onClick={() => change(undefined)}>
              Clear
            </Button>
          </Popover.Close>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}

function DropButton({ id, path, propose }: { id: string; path: string; propose: Propose }) {
  return (
    <Button
      tone="danger"
      className="px-2"
      aria-label={`Drop ${id}`}
      onClick={() => propose([{ at: `${path}/${pointerToken(id)}`, op: "drop" }])}
    >
      Drop
    </Button>
  );
}

function PutForm({ path, propose }: { path: string; propose: Propose }) {
  const [id, setId] = useState("");
  return (
    <form
      className="flex items-center gap-2"
      onSubmit={(event) => {
        event.preventDefault();
        propose([{ at: path, op: "put", id: id.trim(), value: {} }]);
        setId("");
      }}
    >
      <Input
        className="w-40"
        placeholder="new id"
        aria-label={`Id of a new record in ${path}`}
        value={id}
        onChange={(event) => setId(event.target.value)}
      />
      <Button type="submit" disabled={id.trim() === ""}>
        Put
      </Button>
    </form>
  );
}
