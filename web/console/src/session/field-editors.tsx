import type { Edit, Json } from "@rendel/client/parts";
import { useContext, useEffect, useId, useState } from "react";
import type { Field } from "../api.ts";
import { Button, Input, Select, Switch } from "../parts/ui.tsx";
import { isMembers, member, splitLast } from "./pointer.ts";
import { StateContext } from "./state-context.ts";

type Props = { path: string; value: Json; propose: (edits: Edit[]) => void };

/** A counter: one press adds one. */
export function CounterEditor({ path, value, propose }: Props) {
  const add = (by: number) => propose([{ at: path, op: "add", by }]);
  return (
    <div className="inline-flex items-center gap-1">
      <Button aria-label={`Take 1 from ${path}`} className="w-8 px-0" onClick={() => add(-1)}>
        −
      </Button>
      <output className="num min-w-16 px-2 text-lg font-semibold" aria-label={path}>
        {Number(value).toLocaleString("en")}
      </output>
      <Button aria-label={`Add 1 to ${path}`} className="w-8 px-0" onClick={() => add(1)}>
        +
      </Button>
      <Button
        aria-label={`Add 10 to ${path}`}
        tone="quiet"
        className="px-2"
        onClick={() => add(10)}
      >
        +10
      </Button>
    </div>
  );
}

/** A set: its elements, each with a way to take it out, and an input for one more. */
export function SetEditor({ field, path, value, propose }: Props & { field: Field }) {
  const elements = Array.isArray(value) ? value : [];
  const insert = (next: Json) => {
    if (next !== null) propose([{ at: path, op: "include", value: next }]);
  };
  return (
    <div className="flex flex-wrap items-center gap-1.5">
      {elements.map((element) => (
        <span
          key={JSON.stringify(element)}
          className="inline-flex items-center gap-1 rounded-small bg-sunk py-0.5 pl-2 text-sm"
        >
          {typeof element === "string" ? element : JSON.stringify(element)}
          <button
            type="button"
            className="px-1.5 text-faint hover:text-brick"
            aria-label={`Remove ${JSON.stringify(element)} from ${path}`}
            onClick={() => propose([{ at: path, op: "exclude", value: element }])}
          >
            ×
          </button>
        </span>
      ))}
      <div className="w-36">
        <Draft
          field={field}
          path={`${path}, one more`}
          value={null}
          set={insert}
          placeholder="one more"
        />
      </div>
    </div>
  );
}

/** A register that refers to a record: the ids of those that are there. */
export function ReferenceEditor({ to, path, value, propose }: Props & { to: string }) {
  const records = member(useContext(StateContext), splitLast(to)[1]);
  const ids = Object.keys(isMembers(records) ? records : {});
  const options = ids.map((id) => ({ value: id, text: id }));
  return (
    <Select
      label={path}
      className="w-full max-w-48"
      value={value === null ? "" : String(value)}
      options={value === null ? options : [...options, { value: NOTHING, text: "none" }]}
      onChange={(next) =>
        propose([
          next === NOTHING ? { at: path, op: "clear" } : { at: path, op: "set", value: next },
        ])
      }
    />
  );
}

/** No id has control characters. */
const NOTHING = "\u0000";

/** A register: a list of choices, text, a number, or any JSON, as its schema says. */
export function RegisterEditor({ field, path, value, propose }: Props & { field: Field }) {
  const set = (next: Json) =>
    propose([next === null ? { at: path, op: "clear" } : { at: path, op: "set", value: next }]);
  if (field.merge === "all")
    return <Candidates field={field} path={path} value={value} set={set} />;
  return <OneValue field={field} path={path} value={value} set={set} />;
}

type Setting = { field: Field; path: string; value: Json; set: (next: Json) => void };

/** Concurrent values side by side, until somebody picks one. */
function Candidates({ field, path, value, set }: Setting) {
  const values = Array.isArray(value) ? value : [];
  const only = values.length === 1 ? (values[0] ?? null) : null;
  return (
    <div className="flex flex-col gap-1.5">
      {values.length > 1 && (
        <fieldset className="flex flex-wrap items-center gap-1.5 rounded-small bg-slate-wash px-2 py-1.5">
          <legend className="sr-only">Values side by side in {path}</legend>
          <span className="text-xs text-slate">{values.length} side by side; pick one</span>
          {values.map((one) => (
            <Button key={JSON.stringify(one)} className="h-7" onClick={() => set(one)}>
              {typeof one === "string" ? one : JSON.stringify(one)}
            </Button>
          ))}
        </fieldset>
      )}
      <OneValue field={field} path={path} value={only} set={set} />
    </div>
  );
}

function OneValue({ field, path, value, set }: Setting) {
  const choices = field.schema?.enum;
  if (Array.isArray(choices)) {
    const options = choices.map((choice) => ({ value: String(choice), text: String(choice) }));
    return (
      <Select
        label={path}
        className="w-full max-w-48"
        value={value === null ? "" : String(value)}
        options={options}
        onChange={set}
      />
    );
  }
  if (field.schema?.type === "boolean") {
    const label = value === null ? "unset" : value ? "yes" : "no";
    return (
      <div className="flex h-8 items-center">
        <Switch label={label} name={path} tone="leaf" checked={value === true} onChange={set} />
      </div>
    );
  }
  return <Draft field={field} path={path} value={value} set={set} />;
}

/**
 * A draft of a value: it is proposed on Enter or on leaving the input, and follows the state while
 * nobody types in it.
 */
function Draft({
  field,
  path,
  value,
  set,
  placeholder = "unset",
}: Setting & { placeholder?: string }) {
  const type = kindOf(field, value);
  const settled = write(value, type);
  const [text, setText] = useState(settled);
  const [isEditing, setIsEditing] = useState(false);
  const hint = useId();
  useEffect(() => {
    if (!isEditing) setText(settled);
  }, [settled, isEditing]);
  const read = parse(text, type);
  const finish = () => {
    setIsEditing(false);
    if (text === settled) return;
    if (read !== undefined) set(read);
    // What was proposed shows in the state at once; what was no value, or goes elsewhere, leaves
    // the input.
    if (read === undefined || settled === "") setText(settled);
  };
  return (
    <div className="min-w-0">
      <Input
        aria-label={path}
        aria-invalid={isEditing && read === undefined}
        aria-describedby={hint}
        className={`${type === "text" ? "" : "font-mono text-xs"} ${type === "number" ? "num max-w-36" : ""}`}
        placeholder={placeholder}
        value={text}
        onFocus={() => setIsEditing(true)}
        onChange={(event) => setText(event.target.value)}
        onBlur={finish}
        onKeyDown={(event) => {
          if (event.key === "Enter") event.currentTarget.blur();
          if (event.key === "Escape") {
            setText(settled);
            setIsEditing(false);
          }
        }}
      />
      <span id={hint} className="sr-only">
        {type === "json" ? "JSON; Enter proposes it" : "Enter proposes it"}
      </span>
    </div>
  );
}

type Form = "text" | "number" | "json";

function kindOf(field: Field, value: Json): Form {
  const type = field.schema?.type;
  if (type === "string" || (type === undefined && typeof value === "string")) return "text";
  if (type === "number" || type === "integer" || (type === undefined && typeof value === "number"))
    return "number";
  return "json";
}

function write(value: Json, form: Form): string {
  if (value === null) return "";
  return form === "text" && typeof value === "string" ? value : JSON.stringify(value);
}

/** The value of a draft; `null` clears, `undefined` is no value yet. */
function parse(text: string, form: Form): Json | undefined {
  if (text.trim() === "") return null;
  if (form === "text") return text;
  try {
    return JSON.parse(text) as Json;
  } catch {
    return undefined;
  }
}
