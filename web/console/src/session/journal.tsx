import type { Edit, Participant, Settled } from "@rendel/client/parts";
import type { Charter } from "../api.ts";
import { Badge, Dot, Empty } from "../parts/ui.tsx";
import { again } from "./again.ts";
import { clock, meaningOf, shown, updateInWords } from "./words.ts";

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
      {updates.map((update) => (
        <li key={update.seq} className="fresh border-b border-rule px-4 py-2 last:border-0">
          <div className="flex items-baseline gap-2">
            <span className="num w-12 shrink-0 font-mono text-xs text-faint">#{update.seq}</span>
            <Dot hue={roster.find((here) => here.id === update.by)?.hue ?? 90} />
            <span className="font-medium">
              {roster.find((here) => here.id === update.by)?.name ?? update.by}
            </span>
            <time className="ml-auto text-xs text-faint tabular-nums">{clock(update.at)}</time>
          </div>
          <p className="mt-0.5 pl-14 font-mono text-xs break-words text-soft">
            {updateInWords(update)}
          </p>
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
