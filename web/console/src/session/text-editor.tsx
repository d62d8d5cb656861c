import {
  type Anchor,
  caretOf,
  type Edit,
  type Facts,
  spliceBetween,
  toScalars,
  toUnits,
} from "@rendel/client/parts";
import { createContext, useContext, useLayoutEffect, useRef, useState } from "react";
import type { Charter } from "../api.ts";
import { Dot, INPUT } from "../parts/ui.tsx";
import { CompanyContext, caretFact, tabsOf } from "./company.tsx";

/** What a text area asks of the replica whose text it shows. */
export type Anchoring = {
  anchor: (at: string, index: number, isLeft: boolean) => Anchor | undefined;
  release: (anchor: Anchor) => void;
};

/** The replica of the participant that the editors below speak for. */
export const AnchoringContext = createContext<Anchoring | undefined>(undefined);

/**
 * A text: each change goes out as one splice, and the caret stays at its characters whatever others
 * type.
 */
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
  // Only the first text is the element's default: a later one, set by the element itself, would
  // throw the caret away.
  const [first] = useState(value);
  const anchoring = useContext(AnchoringContext);
  const selection = useRef<[Anchor, Anchor]>(undefined);

  const company = useContext(CompanyContext);
  /** When this text was last held. */
  const held = useRef(Number.NEGATIVE_INFINITY);
  /** Others are told where the caret is and, while somebody types, that this text is in use. */
  const tell = (index: number, isTyping: boolean) => {
    if (company === undefined) return;
    const { seat, charter } = company;
    const fact = caretFact(charter, path);
    const typing: Facts =
      isTyping && charter.presence?.fields?.typing?.type === "boolean" ? { typing: true } : {};
    if (fact !== undefined) seat.say({ [fact]: { at: path, index }, ...typing });
    if (mayHold(charter, path) && performance.now() - held.current > HOLD_EVERY) {
      held.current = performance.now();
      void seat.hold(path);
    }
  };
  const release = () => {
    for (const anchor of selection.current ?? []) anchoring?.release(anchor);
    selection.current = undefined;
  };
  const hold = (isTyping = false) => {
    release();
    const { current } = area;
    if (current === null || document.activeElement !== current) return;
    tell(toScalars(current.value, current.selectionEnd), isTyping);
    const [start, end] = [current.selectionStart, current.selectionEnd].map((units) =>
      toScalars(current.value, units),
    );
    const [left, right] = [
      anchoring?.anchor(path, start ?? 0, true),
      anchoring?.anchor(path, end ?? 0, true),
    ];
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
    const splice =
      current === null ? undefined : spliceBetween(value, current.value, current.selectionEnd);
    if (splice !== undefined) propose([{ at: path, op: "splice", ...splice }]);
    hold(true);
  };
  const leave = () => {
    release();
    if (company === undefined) return;
    const { seat, charter } = company;
    const fact = caretFact(charter, path);
    if (fact !== undefined) seat.say({ [fact]: null });
    if (mayHold(charter, path)) seat.letGo(path);
    held.current = Number.NEGATIVE_INFINITY;
  };
  return (
    <>
      <textarea
        ref={area}
        data-shared
        aria-label={path}
        rows={2}
        placeholder="empty"
        defaultValue={first}
        className={`${INPUT} field-sizing-content w-full block h-auto max-h-48 min-h-14 resize-none py-1.5 leading-snug`}
        onInput={(event) => {
          if (!(event.nativeEvent as InputEvent).isComposing) change();
        }}
        onCompositionEnd={change}
        onBlur={leave}
      />
      <Carets path={path} value={value} />
    </>
  );
}

/** A hold that is in use is renewed this often. */
const HOLD_EVERY = 5_000;

/** Whether the charter lets this text be held by who writes in it. */
function mayHold(charter: Charter, path: string): boolean {
  if (charter.holds === undefined) return false;
  const fits = (pattern: string) => {
    const [parts, tokens] = [pattern.split("/"), path.split("/")];
    const rest = parts.indexOf("**");
    const same = (part: string, at: number) => part === "*" || part === tokens[at];
    if (rest >= 0) return tokens.length >= rest && parts.slice(0, rest).every(same);
    return parts.length === tokens.length && parts.every(same);
  };
  return charter.holds.at === undefined || charter.holds.at.some(fits);
}

/** Who else is in this text, and at which words. */
function Carets({ path, value }: { path: string; value: string }) {
  const company = useContext(CompanyContext);
  if (company === undefined) return null;
  const { seat, charter } = company;
  const fact = caretFact(charter, path);
  const here = seat.roster.flatMap((one) => {
    if (fact === undefined) return [];
    return tabsOf(seat, one).flatMap(([client, facts]) => {
      const caret = caretOf(facts[fact]);
      if (caret?.at !== path) return [];
      const index = seat.shownIndex(path, caret.index);
      return [{ one, client, index, isTyping: facts.typing === true }];
    });
  });
  if (fact === undefined) return null;
  const text = Array.from(value);
  return (
    <p className="mt-1 flex min-h-5 flex-wrap gap-x-3 gap-y-1 text-xs text-faint" aria-live="off">
      {here.map(({ one, client, index, isTyping }) => (
        <span key={client} className="inline-flex items-center gap-1.5">
          <Dot hue={one.hue} />
          <span className="font-medium text-soft">{one.name}</span>
          <span className="font-mono whitespace-pre">
            {text
              .slice(Math.max(0, index - 8), index)
              .join("")
              .replaceAll("\n", " ")}
            <span aria-hidden style={{ color: `hsl(${one.hue} 45% var(--hue-light))` }}>
              ┃
            </span>
            {text
              .slice(index, index + 8)
              .join("")
              .replaceAll("\n", " ")}
          </span>
          {isTyping && <span>typing</span>}
        </span>
      ))}
    </p>
  );
}
