import type { Edit, Json, KindName } from "@rendel/client/parts";
import { type ComponentType, useContext, useState } from "react";
import type { Charter, Field, Fields } from "../api.ts";
import { Button, Input } from "../parts/ui.tsx";
import { useNarrow } from "../parts/use-narrow.ts";
import { CompanyContext, PlaceMark } from "./company.tsx";
import { CounterEditor, ReferenceEditor, RegisterEditor, SetEditor } from "./field-editors.tsx";
import { ListEditor } from "./list-editor.tsx";
import {
  BallotEditor,
  ChanceEditor,
  SeatsEditor,
  TotalValue,
  TurnEditor,
} from "./play-editors.tsx";
import { isMembers, member, pointerToken } from "./pointer.ts";
import { SortButton, sorted, useRowsOf } from "./queries.tsx";
import { StateContext } from "./state-context.ts";
import { TextEditor } from "./text-editor.tsx";
import { ClockEditor, DeadlineEditor } from "./time-editors.tsx";
import { WhyName } from "./why.tsx";
import { counted } from "./words.ts";

type Propose = (edits: Edit[]) => void;

/** The whole state as an editable tree; maps of plain records are tables. */
export function StateEditor({
  charter,
  view,
  propose,
  compact = false,
}: {
  charter: Charter;
  view: Json;
  propose: Propose;
  compact?: boolean;
}) {
  const isNarrow = useNarrow();
  return (
    <StateContext value={view}>
      <RecordEditor
        fields={charter.state}
        value={view}
        path=""
        propose={propose}
        compact={compact || isNarrow}
      />
    </StateContext>
  );
}

function RecordEditor({
  fields,
  value,
  path,
  propose,
  compact,
}: {
  fields: Fields;
  value: Json;
  path: string;
  propose: Propose;
  compact: boolean;
}) {
  const company = useContext(CompanyContext);
  // Of a role that sees a part, what is not there is hidden.
  const isPartial = company?.charter.roles?.[company.seat.you?.role ?? ""]?.see !== undefined;
  const shown = Object.entries(fields).filter(
    ([name]) => !isPartial || (isMembers(value) && name in value),
  );
  return (
    <div className="@container flex flex-col">
      {shown.map(([name, field]) => {
        const at = `${path}/${pointerToken(name)}`;
        const shared = { field, value: member(value, name), path: at, propose, compact };
        const editor = EDITORS[field.kind];
        if ("whole" in editor) {
          const Whole = editor.whole;
          return <Whole {...shared} key={name} name={name} />;
        }
        return (
          <div
            key={name}
            className="grid items-center gap-x-4 gap-y-1 border-b border-rule px-4 py-2 last:border-0 @sm:grid-cols-[8rem_1fr]"
          >
            <div className="min-w-0">
              <FieldName name={name} field={field} path={at} />
              <PlaceMark path={at} />
            </div>
            <ValueEditor field={field} path={at} value={shared.value} propose={propose} />
          </div>
        );
      })}
    </div>
  );
}

/** A list: elements that are plain records have one row each, as in a table. */
function ElementsEditor({ name, field, value, path, propose, compact }: FieldProps) {
  const each = field.each ?? {};
  const isRow = !compact && isFlat(each);
  return (
    <ListEditor
      name={<FieldName name={name} field={field} path={path} />}
      field={field}
      value={value}
      path={path}
      propose={propose}
      columns={isRow ? Object.keys(each) : []}
      inner={(element, at) =>
        isRow ? (
          <div className="flex gap-2 px-2 py-1">
            {Object.entries(each).map(([inner, innerField]) => (
              <div key={inner} className="min-w-0 flex-1">
                <ValueEditor
                  field={innerField}
                  path={`${at}/${pointerToken(inner)}`}
                  value={member(element, inner)}
                  propose={propose}
                />
              </div>
            ))}
          </div>
        ) : (
          <RecordEditor
            fields={each}
            value={element}
            path={at}
            propose={propose}
            compact={compact}
          />
        )
      }
    />
  );
}

/** Whether records of these fields fit into rows of a table. */
function isFlat(fields: Fields): boolean {
  return Object.values(fields).every((inner) => inner.kind !== "map" && inner.kind !== "list");
}

type FieldProps = {
  name: string;
  field: Field;
  value: Json;
  path: string;
  propose: Propose;
  compact: boolean;
};

function FieldName({ name, field, path }: { name: string; field: Field; path: string }) {
  const rule = field.kind === "register" ? (field.merge ?? "last") : undefined;
  return (
    <div className="min-w-0">
      <div className="truncate text-sm font-medium">
        <WhyName path={path}>{name}</WhyName>
      </div>
      <div className="text-xs text-faint">
        {field.kind}
        {rule !== undefined && `, ${rule}`}
        {field["drop-conflict"] === "revive" && ", revive"}
        {field["append-only"] === true && ", append-only"}
        {field.refers !== undefined && `, refers to ${field.refers.to}`}
      </div>
    </div>
  );
}

type ValueProps = { field: Field; path: string; value: Json; propose: Propose };

/** How a field of each kind is edited: beside its name, or as a part of the page of its own. */
const EDITORS: Record<
  KindName,
  { value: ComponentType<ValueProps> } | { whole: ComponentType<FieldProps> }
> = {
  ballot: { value: BallotEditor },
  clock: { value: ClockEditor },
  counter: { value: CounterEditor },
  deadline: { value: DeadlineEditor },
  list: { whole: ElementsEditor },
  map: { whole: MapEditor },
  random: { value: ChanceEditor },
  register: { value: OneValueEditor },
  seats: { value: SeatsEditor },
  set: { value: SetEditor },
  text: { value: WordsEditor },
  total: { value: TotalValue },
  turn: { value: TurnEditor },
};

function ValueEditor(props: ValueProps) {
  const editor = EDITORS[props.field.kind];
  if ("whole" in editor) return null;
  const OfKind = editor.value;
  return <OfKind {...props} />;
}

function WordsEditor({ path, value, propose }: ValueProps) {
  return (
    <TextEditor path={path} value={typeof value === "string" ? value : ""} propose={propose} />
  );
}

function OneValueEditor({ field, path, value, propose }: ValueProps) {
  if (field.refers !== undefined)
    return <ReferenceEditor to={field.refers.to} path={path} value={value} propose={propose} />;
  return <RegisterEditor field={field} path={path} value={value} propose={propose} />;
}

const FIRST = 50;

const unescaped = (token: string) => token.replaceAll("~1", "/").replaceAll("~0", "~");

/** Kinds of which each record has one value. */
const SORTABLE = new Set(["register", "counter"]);

/** The order of a large map, which the service keeps: ids in the place of the map's own order. */
function useSorted(path: string, isLarge: boolean, most: number) {
  const company = useContext(CompanyContext);
  const [order, setOrder] = useState<string>();
  const role = company?.charter.roles?.[company.seat.you?.role ?? ""];
  const mayAsk = isLarge && (role?.powers?.includes("ask") ?? false);
  const { rows } = useRowsOf(
    mayAsk && order !== undefined ? company?.seat.parts : undefined,
    JSON.stringify({ of: { from: path, order: [order], limit: Math.min(most, 500), fields: [] } }),
  );
  const sort = (field: string) =>
    setOrder(order === field ? `-${field}` : order === `-${field}` ? undefined : field);
  return {
    order,
    sort: mayAsk ? sort : undefined,
    ids:
      order === undefined
        ? undefined
        : rows?.map((row) => unescaped(row.path.slice(path.length + 1))),
  };
}

function MapEditor({ name, field, value, path, propose, compact }: FieldProps) {
  const [most, setMost] = useState(FIRST);
  const each = field.each ?? {};
  const members = isMembers(value) ? value : {};
  const records = Object.entries(members);
  const { order, sort, ids } = useSorted(path, records.length > FIRST, most);
  // Each record as it is here, with what is pending over it, where the service says it stands.
  const shown =
    ids === undefined
      ? records.slice(0, most)
      : ids.flatMap((id): [string, Json][] => (id in members ? [[id, members[id] ?? null]] : []));
  return (
    <div className="border-b border-rule last:border-0">
      <div className="flex items-end justify-between gap-4 px-4 pt-3 pb-1">
        <FieldName name={name} field={field} path={path} />
        <div className="text-xs text-faint tabular-nums">{counted(records.length, "record")}</div>
      </div>
      {isFlat(each) && !compact ? (
        <RecordTable
          each={each}
          records={shown}
          path={path}
          propose={propose}
          order={order}
          sort={sort}
        />
      ) : (
        <ul className="px-4 pb-1">
          {shown.map(([id, record]) => (
            <li key={id} className="my-1.5 rounded-small border border-rule">
              <div className="flex items-center justify-between gap-2 border-b border-rule bg-ground pl-4">
                <span className="flex min-w-0 items-center gap-2">
                  <span className="truncate font-mono text-xs">
                    <WhyName path={`${path}/${pointerToken(id)}`}>{id}</WhyName>
                  </span>
                  <PlaceMark path={`${path}/${pointerToken(id)}`} />
                </span>
                <DropButton id={id} path={path} propose={propose} />
              </div>
              <RecordEditor
                fields={each}
                value={record}
                path={`${path}/${pointerToken(id)}`}
                propose={propose}
                compact={compact}
              />
            </li>
          ))}
        </ul>
      )}
      <div className="flex flex-wrap items-center gap-2 px-4 pt-1 pb-3">
        <PutForm path={path} propose={propose} />
        {records.length > shown.length && (
          <Button tone="quiet" onClick={() => setMost(most + FIRST)}>
            Show {Math.min(FIRST, records.length - shown.length)} more
          </Button>
        )}
      </div>
    </div>
  );
}

function RecordTable({
  each,
  records,
  path,
  propose,
  order,
  sort,
}: {
  each: Fields;
  records: [string, Json][];
  path: string;
  propose: Propose;
  order?: string | undefined;
  /** What a press on a head does, where rows can be sorted. */
  sort?: ((field: string) => void) | undefined;
}) {
  if (records.length === 0) return <p className="px-4 py-2 text-sm text-faint">No record yet.</p>;
  // Texts need the width of the table: each has a row below the rest of its record.
  const columns = Object.entries(each).filter(([, field]) => field.kind !== "text");
  const texts = Object.entries(each).filter(([, field]) => field.kind === "text");
  const editor = (id: string, record: Json, name: string, field: Field) => (
    <ValueEditor
      field={field}
      path={`${path}/${pointerToken(id)}/${pointerToken(name)}`}
      value={member(record, name)}
      propose={propose}
    />
  );
  return (
    <div className="overflow-x-auto">
      <table className="w-full text-sm">
        <thead className="text-left text-xs text-faint">
          <tr>
            <th className="px-4 py-1 font-medium">id</th>
            {columns.map(([name, field]) => (
              <th
                key={name}
                className="px-2 py-1 font-medium"
                aria-sort={sorted(order === undefined ? undefined : [order], name)}
              >
                {sort === undefined || !SORTABLE.has(field.kind) ? (
                  name
                ) : (
                  <SortButton name={name} order={order} sort={sort} />
                )}
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
        {records.map(([id, record]) => (
          <tbody key={id} className="border-t border-rule">
            <tr>
              <td className="max-w-36 truncate px-4 py-1.5 font-mono text-xs" title={id}>
                <WhyName path={`${path}/${pointerToken(id)}`}>{id}</WhyName>
                <PlaceMark path={`${path}/${pointerToken(id)}`} />
              </td>
              {columns.map(([name, field]) => (
                <td key={name} className="min-w-24 px-2 py-1.5">
                  {editor(id, record, name, field)}
                  <PlaceMark path={`${path}/${pointerToken(id)}/${pointerToken(name)}`} />
                </td>
              ))}
              <td className="px-2 text-right">
                <DropButton id={id} path={path} propose={propose} />
              </td>
            </tr>
            {texts.map(([name, field]) => (
              <tr key={name}>
                <td className="px-4 pb-2 align-top text-xs text-faint">
                  <WhyName path={`${path}/${pointerToken(id)}/${pointerToken(name)}`}>
                    {name}
                  </WhyName>
                  <PlaceMark path={`${path}/${pointerToken(id)}/${pointerToken(name)}`} />
                </td>
                <td colSpan={columns.length + 1} className="px-2 pb-2">
                  {editor(id, record, name, field)}
                </td>
              </tr>
            ))}
          </tbody>
        ))}
      </table>
    </div>
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
