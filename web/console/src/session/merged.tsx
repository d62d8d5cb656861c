import { Badge, type Meaning } from "../parts/ui.tsx";
import type { Answer, Return } from "./use-participant.ts";
import { counted, meaningOf } from "./words.ts";

/**
 * What a return brought: how much came meanwhile, and what became of what was proposed without a
 * connection.
 */
export function Merged({ returned, answers }: { returned: Return; answers: Answer[] }) {
  const own = answers.filter((answer) => returned.unsent.has(answer.n));
  const open = returned.unsent.size - own.length;
  const counts = new Map<string, { meaning: Meaning; count: number }>();
  for (const answer of own) {
    for (const [word, meaning] of outcomes(answer)) {
      counts.set(word, { meaning, count: (counts.get(word)?.count ?? 0) + 1 });
    }
  }
  return (
    <p role="status" className="flex flex-wrap items-center gap-x-2 gap-y-1 text-xs text-soft">
      <span>
        Back: {counted(returned.missed, "update")} came meanwhile
        {returned.unsent.size > 0 && `, ${counted(returned.unsent.size, "edit")} of one’s own`}
      </span>
      {[...counts].map(([word, { meaning, count }]) => (
        <Badge key={word} meaning={meaning}>
          {count} {word}
        </Badge>
      ))}
      {open > 0 && <Badge>{open} on the way</Badge>}
    </p>
  );
}

function outcomes(answer: Answer): [string, Meaning][] {
  if ("problem" in answer) return [["refused", "brick"]];
  if (!("update" in answer) || answer.update.verdicts === undefined) return [["applied", "leaf"]];
  return answer.update.verdicts.map(({ verdict }) => [verdict, meaningOf(verdict)]);
}
