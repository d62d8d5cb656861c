import { type Edit, type Json, uuid7 } from "@rendel/client/parts";
import { type KeyboardEvent, type ReactNode, useRef, useState } from "react";
import type { Field } from "../api.ts";
import { Button, Input } from "../parts/ui.tsx";
import { pointerToken } from "./pointer.ts";
import { counted, shown } from "./words.ts";

type Element = { id: string; value: Json };

/**
 * A list: elements are dragged by their handle, or moved with the arrow keys while it has the
 * focus.
 */
export function ListEditor({
  name,
  field,
  value,
  path,
  propose,
  columns,
  inner,
}: {
  name: ReactNode;
  field: Field;
  value: Json;
  path: string;
  propose: (edits: Edit[]) => void;
  /** What the parts of an element's row are, where it is one. */
  columns: string[];
  /** The editor of an element's record. */
  inner: (value: Json, path: string) => ReactNode;
}) {
  const elements = (Array.isArray(value) ? value : []) as Element[];
  const isFixed = field["append-only"] === true;
  const [dragged, setDragged] = useState<string>();
  const [over, setOver] = useState<string>();
  const [told, setTold] = useState("");
  const rows = useRef<HTMLOListElement>(null);

  const move = (id: string, to: number) => {
    const rest = elements.filter((element) => element.id !== id);
    if (to < 0 || to > rest.length || elements[to]?.id === id) return;
    propose([{ at: `${path}/${pointerToken(id)}`, op: "move", after: rest[to - 1]?.id ?? null }]);
    setTold(`${id} is ${to + 1} of ${elements.length}`);
  };
  const onKey = (event: KeyboardEvent, id: string, index: number) => {
    const to = { ArrowUp: index - 1, ArrowDown: index + 1, Home: 0, End: elements.length - 1 }[
      event.key
    ];
    if (to === undefined) return;
    event.preventDefault();
    move(id, to);
    // The row moves; the focus goes with it.
    requestAnimationFrame(() =>
      rows.current?.querySelector<HTMLElement>(`[data-handle="${CSS.escape(id)}"]`)?.focus(),
    );
  };

  return (
    <div className="border-b border-rule last:border-0">
      <div className="flex items-end justify-between gap-4 px-4 pt-3 pb-1">
        {name}
        <div className="text-xs text-faint tabular-nums">{counted(elements.length, "element")}</div>
      </div>
      {elements.length === 0 && <p className="px-4 py-2 text-sm text-faint">No element yet.</p>}
      {columns.length > 0 && elements.length > 0 && (
        <div aria-hidden className="flex gap-2 pr-26 pl-[5.25rem] text-xs font-medium text-faint">
          {columns.map((column) => (
            <span key={column} className="min-w-0 flex-1 px-0.5">
              {column}
            </span>
          ))}
        </div>
      )}
      <ol ref={rows} className="px-4 pb-1">
        {elements.map(({ id, value: element }, index) => (
          <li
            key={id}
            data-element={id}
            className={`my-1 flex items-start gap-1 rounded-small border bg-sheet ${
              over === id && dragged !== id ? "border-leaf" : "border-rule"
            } ${dragged === id ? "opacity-50" : ""}`}
            onDragOver={(event) => {
              if (dragged === undefined) return;
              event.preventDefault();
              setOver(id);
            }}
            onDrop={(event) => {
              event.preventDefault();
              if (dragged !== undefined) move(dragged, index);
              setDragged(undefined);
              setOver(undefined);
            }}
          >
            {!isFixed && (
              <button
                type="button"
                draggable
                data-handle={id}
                aria-label={`Move ${id}, ${index + 1} of ${elements.length}; arrow keys move it`}
                title="Drag, or move with the arrow keys"
                className="flex h-9 w-7 shrink-0 items-center justify-center rounded-small text-faint hover:bg-sunk"
                onDragStart={(event) => {
                  event.dataTransfer.effectAllowed = "move";
                  event.dataTransfer.setData("text/plain", id);
                  setDragged(id);
                }}
                onDragEnd={() => {
                  setDragged(undefined);
                  setOver(undefined);
                }}
                onKeyDown={(event) => onKey(event, id, index)}
              >
                <Grip />
              </button>
            )}
            <span className="num w-6 shrink-0 pt-2.5 text-xs text-faint">{index + 1}</span>
            <div className="min-w-0 flex-1 py-0.5">
              {field.each === undefined ? (
                <p className="px-2 py-1.5 text-sm break-words">
                  {typeof element === "string" ? element : shown(element, 200)}
                </p>
              ) : (
                inner(element, `${path}/${pointerToken(id)}`)
              )}
            </div>
            {!isFixed && (
              <Button
                tone="danger"
                className="mt-0.5 px-2"
                aria-label={`Remove ${id}`}
                onClick={() => propose([{ at: `${path}/${pointerToken(id)}`, op: "remove" }])}
              >
                Remove
              </Button>
            )}
          </li>
        ))}
      </ol>
      <p role="status" className="sr-only">
        {told}
      </p>
      <InsertForm field={field} path={path} propose={propose} />
    </div>
  );
}

/** Inserts at the end: of records the first text field, of plain values the value itself. */
function InsertForm({
  field,
  path,
  propose,
}: {
  field: Field;
  path: string;
  propose: (edits: Edit[]) => void;
}) {
  const [text, setText] = useState("");
  const first = Object.entries(field.each ?? {}).find(
    ([, inner]) => inner.schema?.type === "string",
  )?.[0];
  const value = (): Json => {
    if (field.each !== undefined) return first === undefined ? {} : { [first]: text.trim() };
    if (field.schema?.type === "string") return text.trim();
    try {
      return JSON.parse(text) as Json;
    } catch {
      return text.trim();
    }
  };
  const isReady = text.trim() !== "" || (field.each !== undefined && first === undefined);
  return (
    <form
      className="flex items-center gap-2 px-4 pt-1 pb-3"
      onSubmit={(event) => {
        event.preventDefault();
        if (!isReady) return;
        propose([{ at: path, op: "insert", id: uuid7(), value: value() }]);
        setText("");
      }}
    >
      <Input
        className="max-w-64"
        placeholder={first === undefined ? "one more" : `one more: ${first}`}
        aria-label={`One more element of ${path}`}
        value={text}
        onChange={(event) => setText(event.target.value)}
      />
      <Button type="submit" disabled={!isReady}>
        Insert
      </Button>
    </form>
  );
}

function Grip() {
  return (
    <svg aria-hidden width="10" height="14" viewBox="0 0 10 14" fill="currentColor">
      <path d="M0 3h10v1.5H0zM0 6.25h10v1.5H0zM0 9.5h10V11H0z" />
    </svg>
  );
}
