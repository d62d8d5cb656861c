import { useMemo, useState } from "react";
import type { Charter } from "../api.ts";
import { Badge, Button, Select } from "../parts/ui.tsx";
import { type Collision, collisions } from "./collision.ts";
import type { PaneReport } from "./pane.tsx";
import { stepInWords } from "./undo.tsx";
import type { Answer } from "./use-participant.ts";
import { meaningOf, problemName } from "./words.ts";

type Staged = { collision: Collision; names: [string, string]; ns: [number, number] };

/** Both undo at the same moment: each takes back their own. */
function bothUndo(left: PaneReport | undefined, right: PaneReport | undefined): Collision[] {
  const looks = [left?.seat.undoable.undo, right?.seat.undoable.undo];
  const [one, two] = looks;
  if (!one || !two) return [];
  return [
    {
      id: "both undo",
      title: "both undo",
      rule: "each takes back their own, and nothing of the other's",
      edits: [[{ at: "", op: "undo", of: one.of }], [{ at: "", op: "undo", of: two.of }]],
      says: [`undoes ${stepInWords(one)}`, `undoes ${stepInWords(two)}`],
    },
  ];
}

/** Lets two panes change the same thing at the same moment, and tells what became of each. */
export function CollidePanel({ charter, seats }: { charter: Charter; seats: PaneReport[] }) {
  const ready = seats.filter(({ seat }) => seat.view !== undefined && seat.standing !== "ended");
  const view = ready[0]?.seat.view;
  const offered = useMemo(
    () => (view === undefined ? [] : collisions(charter, view)),
    [charter, view],
  );
  const [wanted, setWanted] = useState<string>();
  const [staged, setStaged] = useState<Staged>();
  const [left, right] = ready;
  const all = bothUndo(left, right).concat(offered);
  const collision = all.find((one) => one.id === wanted) ?? offered[0];

  const collide = () => {
    if (collision === undefined || left === undefined || right === undefined) return;
    // Both are made before either can hear of the other.
    const one = left.seat.propose(collision.edits[0]);
    const two = right.seat.propose(collision.edits[1]);
    if (one !== undefined && two !== undefined)
      setStaged({ collision, names: [left.name, right.name], ns: [one, two] });
  };

  return (
    <section aria-label="Collide" className="rounded-box border border-rule bg-sheet px-4 py-2.5">
      <div className="flex flex-wrap items-center gap-x-3 gap-y-2">
        <Select
          label="What to collide in"
          className="w-full font-mono text-xs sm:w-96"
          value={collision?.id ?? ""}
          options={all.map((one) => ({ value: one.id, text: one.title }))}
          onChange={setWanted}
          disabled={offered.length === 0}
        />
        <Button
          tone="main"
          onClick={collide}
          disabled={collision === undefined || right === undefined}
        >
          Collide
        </Button>
        <p className="text-sm text-soft">
          {collision === undefined || left === undefined || right === undefined ? (
            "Two panes are needed that have been welcomed."
          ) : (
            <>
              {left.name} {collision.says[0]}, {right.name} {collision.says[1]}, neither having seen
              the other. Rule: {collision.rule}.
            </>
          )}
        </p>
      </div>
      <ol
        className="mt-2 grid min-h-11 gap-x-6 gap-y-1 text-sm sm:grid-cols-2"
        aria-label="What became of it"
        aria-live="polite"
      >
        {staged === undefined ? (
          <li className="text-faint">What became of each is told here.</li>
        ) : (
          ([0, 1] as const).map((side) => {
            const seat = seats.find(({ name }) => name === staged.names[side])?.seat;
            const answer = seat?.answers.find((one) => one.n === staged.ns[side]);
            return (
              <li key={side}>
                <span className="font-medium">{staged.names[side]}</span>{" "}
                {staged.collision.says[side]}: <Became answer={answer} standing={seat?.standing} />
              </li>
            );
          })
        )}
      </ol>
    </section>
  );
}

function Became({
  answer,
  standing,
}: {
  answer: Answer | undefined;
  standing: string | undefined;
}) {
  if (answer === undefined)
    return (
      <span className="text-faint">
        {standing === "offline" ? "kept until this pane is back" : "no answer yet"}
      </span>
    );
  if ("problem" in answer) {
    return (
      <>
        <Badge meaning="brick">refused: {problemName(answer.problem)}</Badge>{" "}
        <span className="text-soft">{answer.problem.detail}</span>
      </>
    );
  }
  if ("seq" in answer) return <Badge meaning="leaf">settled #{answer.seq}</Badge>;
  const verdict = answer.update.verdicts?.[0];
  return (
    <>
      <Badge meaning="leaf">settled #{answer.update.seq}</Badge>{" "}
      <Badge meaning={meaningOf(verdict?.verdict ?? "applied")}>
        {verdict?.verdict ?? "applied"}
      </Badge>{" "}
      <span className="text-soft">{verdict?.because ?? "Nothing concurrent was in its way."}</span>
    </>
  );
}
