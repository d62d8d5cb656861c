import type { Look } from "@rendel/client/undo";
import type { KeyboardEvent, ReactNode } from "react";
import { Button } from "../parts/ui.tsx";
import type { Seat } from "./use-participant.ts";
import { counted } from "./words.ts";

/** What a step did, by what undoing it does. */
const DID: Record<string, string> = {
  set: "change",
  clear: "change",
  splice: "typing in",
  drop: "put",
  revive: "drop of",
  put: "drop of",
  insert: "remove of",
  remove: "insert of",
  move: "move",
  add: "add to",
  include: "exclude from",
  exclude: "include in",
};

/** The name of a gesture without what keeps two of one name apart. */
export function stepName(gesture: string): string {
  return gesture.replace(/ [0-9a-f]{6}$/, "");
}

/** What a step of undo is, in a few words: the name of its gesture, or what it did and where. */
export function stepInWords({ of, edits, skipped = [] }: Look): string {
  if (typeof of === "string") return stepName(of);
  // Of what cannot be taken back it is only known where it was.
  const first = edits[0] ?? (skipped[0] && { at: skipped[0].at, op: "set" });
  if (first === undefined) return `#${of}`;
  const names = first.at.split("/").slice(1).slice(-2);
  const more = edits.length > 1 ? ` and ${edits.length - 1} more` : "";
  return `${DID[first.op] ?? first.op} ${names.join(" ")}${more}`;
}

/** Undo and redo, each with what it would do now. */
export function UndoButtons({ seat, compact = false }: { seat: Seat; compact?: boolean }) {
  const { undo, redo } = seat.undoable;
  return (
    <div className="flex min-w-0 items-center gap-1.5">
      <StepButton way="Undo" look={undo} compact={compact} act={seat.undo} />
      <StepButton way="Redo" look={redo} compact={compact} act={seat.redo} />
    </div>
  );
}

function StepButton({
  way,
  look,
  compact,
  act,
}: {
  way: "Undo" | "Redo";
  look: Look | null;
  compact: boolean;
  act: () => void;
}) {
  const words = look === null ? `Nothing to ${way.toLowerCase()}` : stepInWords(look);
  const stays = look?.skipped?.length ?? 0;
  const why = look?.refusal?.detail ?? look?.skipped?.[0]?.because;
  const isIdle = look === null || (look.edits.length === 0 && stays === 0 && why === undefined);
  const told = stays > 0 ? `${words}; ${counted(stays, "part")} stays: ${why}` : (why ?? words);
  return (
    <Button
      className={compact ? "h-7 px-2 text-xs" : "max-w-64"}
      disabled={isIdle}
      title={told}
      aria-label={look === null ? words : `${way}: ${told}`}
      onClick={act}
    >
      <span className="truncate">
        {way}
        {!compact && look !== null && <span className="font-normal text-soft">: {words}</span>}
      </span>
    </Button>
  );
}

/**
 * Takes undo and redo by their keys for all that is in it. What is typed into a field that is not
 * sent yet is the browser's to undo; a shared text is the session's.
 */
export function UndoKeys({
  seat,
  className,
  children,
}: {
  seat: Seat;
  className?: string;
  children: ReactNode;
}) {
  const keyed = (event: KeyboardEvent) => {
    if (!(event.ctrlKey || event.metaKey) || event.altKey) return;
    const key = event.key.toLowerCase();
    const isRedo = key === "y" || (key === "z" && event.shiftKey);
    if (key !== "z" && !isRedo) return;
    const target = event.target as HTMLElement;
    if (target.matches("input, textarea:not([data-shared])")) return;
    event.preventDefault();
    event.stopPropagation();
    if (isRedo) seat.redo();
    else seat.undo();
  };
  return (
    // biome-ignore lint/a11y/noStaticElementInteractions: it takes the keys of what is in it
    <div className={className} onKeyDown={keyed}>
      {children}
    </div>
  );
}
