import type { Edit, Participant, Settled } from "@rendel/client/parts";
import type { Charter } from "../api.ts";
import { Badge, Dot, Empty } from "../parts/ui.tsx";
import { again } from "./again.ts";
import { stepName } from "./undo.tsx";
import { clock, counted, meaningOf, shown, updateInWords } from "./words.ts";

/** Updates that are one line: those of one gesture. */
type Step = { update: Settled; first: number; count: number };

/** The updates, newest first, as steps: a gesture is one, at the place of its last update. */
function steps(updates: readonly Settled[]): Step[] {
  const open = new Map<string, Step>();
  const all: Step[] = [];
  for (const update of updates) {
    const key =
      update.undoes === undefined ? update.gesture && `${update.by} ${update.gesture}` : undefined;
    const known = key === undefined ? undefined : open.get(key);
    if (known !== undefined) {
      known.first = update.seq;
      known.count += 1;
      continue;
    }
    const step = { update, first: update.seq, count: 1 };
    all.push(step);
    if (key !== undefined) open.set(key, step);
  }
  return all;
}

/** Where a step ends, for who goes through the past. */
export function stopsOf(updates: readonly Settled[]): number[] {
  return steps(updates).map(({ update }) => update.seq);
}

function undoesInWords({ way, updates }: NonNullable<Settled["undoes"]>): string {
  const [first, last] = [updates[0], updates.at(-1)];
  return first === last ? `${way} of #${last}` : `${way} of #${first} to #${last}`;
}

/**
 * The settled updates, newest first, each with what it did and why where there is something to say.
 */
export function Journal({
  updates,
  roster,
  charter,
  propose,
}: {
  updates: Settled[];
  roster: readonly Participant[];
  charter: Charter | undefined;
  propose: (edits: Edit[]) => void;
}) {
  if (updates.length === 0)
    return (
      <Empty title="Nothing was settled yet">
        What anyone changes shows up here, in the one order that all share.
      </Empty>
    );
  return (
    <ol className="min-h-0 flex-1 overflow-y-auto text-sm" aria-label="Journal">
      {steps(updates).map(({ update, first, count }) => (
        <li key={first} className="fresh border-b border-rule px-4 py-2 last:border-0">
          <div className="flex items-baseline gap-2">
            <span className="num w-12 shrink-0 font-mono text-xs text-faint">#{update.seq}</span>
            <Dot hue={roster.find((here) => here.id === update.by)?.hue ?? 90} />
            <span className="font-medium">
              {roster.find((here) => here.id === update.by)?.name ?? update.by}
            </span>
            {update.undoes !== undefined && (
              <Badge meaning="slate">{undoesInWords(update.undoes)}</Badge>
            )}
            <time className="ml-auto text-xs text-faint tabular-nums">{clock(update.at)}</time>
          </div>
          <p className="mt-0.5 pl-14 font-mono text-xs break-words text-soft">
            {updateInWords(update)}
          </p>
          {count > 1 && (
            <p className="pl-14 text-xs text-faint">
              {stepName(update.gesture ?? "")}: {counted(count, "update")} from #{first}
            </p>
          )}
          {update.note !== undefined && <p className="pl-14 text-xs text-faint">“{update.note}”</p>}
          {update.rules?.map((mark) => (
            <p key={`${mark.rule}-${mark.first}`} className="mt-1 pl-14 text-xs text-soft">
              <Badge meaning={mark.failed === undefined ? "plain" : "brick"}>
                rule {mark.rule}
              </Badge>{" "}
              {mark.failed}
            </p>
          ))}
          {update.verdicts?.map((verdict) => {
            const edit = charter && again(charter, update, verdict);
            return (
              <div key={`${verdict.edit}-${verdict.at}`} className="mt-1 pl-14 text-xs">
                <Badge meaning={meaningOf(verdict.verdict)}>{verdict.verdict}</Badge>{" "}
                <span className="text-soft">{verdict.because}</span>{" "}
                {edit !== undefined && (
                  <button
                    type="button"
                    className="text-leaf underline"
                    onClick={() => propose([edit])}
                  >
                    Propose {shown(verdict.lost, 40)} again
                  </button>
                )}
              </div>
            );
          })}
        </li>
      ))}
    </ol>
  );
}
