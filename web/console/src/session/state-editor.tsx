import type { Edit, Json, KindName } from "@rendel/client/parts";
import { type ComponentType, useContext } from "react";
import type { Charter, Field, Fields } from "../api.ts";
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
import { Records } from "./records.tsx";
import { StateContext } from "./state-context.ts";
import { TextEditor } from "./text-editor.tsx";
import { ClockEditor, DeadlineEditor } from "./time-editors.tsx";
import { WhyName } from "./why.tsx";

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

function MapEditor({ name, field, value, path, propose, compact }: FieldProps) {
  const each = field.each ?? {};
  return (
    <Records
      title={<FieldName name={name} field={field} path={path} />}
      each={each}
      value={value}
      path={path}
      propose={propose}
      asTable={isFlat(each) && !compact}
      editors={{
        value: (inner, at, is) => (
          <ValueEditor field={inner} path={at} value={is} propose={propose} />
        ),
        record: (at, record) => (
          <RecordEditor
            fields={each}
            value={record}
            path={at}
            propose={propose}
            compact={compact}
          />
        ),
      }}
    />
  );
}
