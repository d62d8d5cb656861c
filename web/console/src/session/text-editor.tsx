import { type Anchor, type Edit, spliceBetween, toScalars, toUnits } from "@rendel/client";
import { createContext, useContext, useLayoutEffect, useRef, useState } from "react";
import { INPUT } from "../parts/ui.tsx";

/** What a text area asks of the replica whose text it shows. */
export type Anchoring = {
  anchor: (at: string, index: number, isLeft: boolean) => Anchor | undefined;
  release: (anchor: Anchor) => void;
};

/** The replica of the participant that the editors below speak for. */
export const AnchoringContext = createContext<Anchoring | undefined>(undefined);

/** A text: each change goes out as one splice, and the caret stays at its characters whatever others type. */
export function TextEditor({
  path,
  value,
  propose,
}: {
  path: string;
  value: string;
  propose: (edits: Edit[]) => void;
}) {
  const area = useRef<HTMLTextAreaElement>(null);
  // Only the first text is the element's default: a later one, set by the element itself, would throw the caret away.
  const [first] = useState(value);
  const anchoring = useContext(AnchoringContext);
  const selection = useRef<[Anchor, Anchor]>(undefined);

  const release = () => {
    for (const anchor of selection.current ?? []) anchoring?.release(anchor);
    selection.current = undefined;
  };
  const hold = () => {
    release();
    const { current } = area;
    if (current === null || document.activeElement !== current) return;
    const [start, end] = [current.selectionStart, current.selectionEnd].map((units) => toScalars(current.value, units));
    const [left, right] = [anchoring?.anchor(path, start ?? 0, true), anchoring?.anchor(path, end ?? 0, true)];
    if (left !== undefined && right !== undefined) selection.current = [left, right];
  };

  useLayoutEffect(() => {
    const { current } = area;
    if (current === null || current.value === value) return;
    const [start, end] = selection.current ?? [];
    current.value = value;
    if (start !== undefined && end !== undefined && document.activeElement === current)
      current.setSelectionRange(toUnits(value, start.index), toUnits(value, end.index));
  }, [value]);
  // Keys, mouse, touch, menus and programs move carets: the document's event tells of all of them.
  const latest = useRef(hold);
  latest.current = hold;
  useLayoutEffect(() => {
    const changed = () => {
      if (document.activeElement === area.current) latest.current();
    };
    document.addEventListener("selectionchange", changed);
    return () => document.removeEventListener("selectionchange", changed);
  }, []);
  // biome-ignore lint/correctness/useExhaustiveDependencies: once, at the end
  useLayoutEffect(() => release, []);

  const change = () => {
    const { current } = area;
    const splice = current === null ? undefined : spliceBetween(value, current.value, current.selectionEnd);
    if (splice !== undefined) propose([{ at: path, op: "splice", ...splice }]);
    hold();
  };
  return (
    <textarea
      ref={area}
      aria-label={path}
      rows={2}
      placeholder="empty"
      defaultValue={first}
      className={`${INPUT} field-sizing-content block h-auto max-h-48 min-h-14 resize-none py-1.5 leading-snug`}
      onInput={(event) => {
        if (!(event.nativeEvent as InputEvent).isComposing) change();
      }}
      onCompositionEnd={change}
      onBlur={release}
    />
  );
}
