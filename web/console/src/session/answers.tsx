import { Badge } from "../parts/ui.tsx";
import type { Answer } from "./use-participant.ts";
import { meaningOf, problemName, shown, updateInWords } from "./words.ts";

/** What the sender got: one line for an own proposal. */
export function AnswerLine({ answer }: { answer: Answer }) {
  if ("problem" in answer) {
    const { problem } = answer;
    return (
      <div className="text-sm" role="status">
        <Badge meaning="brick">refused: {problemName(problem)}</Badge>{" "}
        <span className="text-soft">{problem.detail}</span>
        {problem.current !== undefined && (
          <span className="text-soft"> Present value: {shown(problem.current)}.</span>
        )}
      </div>
    );
  }
  if ("seq" in answer) {
    return (
      <div className="text-sm" role="status">
        <Badge meaning="leaf">settled #{answer.seq}</Badge>{" "}
        <span className="text-soft">while this client was away</span>
      </div>
    );
  }
  const { update } = answer;
  return (
    <div className="text-sm" role="status">
      <Badge meaning="leaf">settled #{update.seq}</Badge>{" "}
      <span className="text-soft">
        {updateInWords(update)}, in <span className="tabular-nums">{answer.ms.toFixed(1)}</span> ms
      </span>
      {update.verdicts?.map((verdict) => (
        <div key={verdict.at} className="mt-0.5">
          <Badge meaning={meaningOf(verdict.verdict)}>{verdict.verdict}</Badge>{" "}
          <span className="text-soft">{verdict.because}</span>
        </div>
      ))}
    </div>
  );
}
