import type { Act, Edit } from "@rendel/client/parts";
import type { Ballot, Choice, Results } from "@rendel/client/play";
import { useState } from "react";
import type { Charter, Field } from "../api.ts";
import { Badge, Button } from "../parts/ui.tsx";
import { choosing, useCasting } from "./play-editors.tsx";
import { isMembers, member } from "./pointer.ts";
import type { Seat } from "./use-participant.ts";
import { counted } from "./words.ts";

type Sheet = {
  name: string;
  field: Field;
  ballot: Ballot;
  own: Choice | undefined;
  act: (act: Act) => void;
  nameOf: (who: string) => string;
  mayCast: boolean;
  may: (power: string) => boolean;
};

/** All ballots of a session, as one who takes part sees them. */
export function Poll({ charter, seat }: { charter: Charter; seat: Seat }) {
  const view = seat.view ?? null;
  const role = seat.you?.role ?? "";
  const declared = charter.roles?.[role];
  const ballots = Object.entries(charter.state).filter(([, field]) => field.kind === "ballot");
  return (
    <div className="flex flex-col gap-4 p-4">
      {ballots.map(([name, field]) => {
        const value = member(view, name);
        if (!isMembers(value)) return null;
        const cast = member(member(view, `${name}-ballots`), seat.you?.id ?? "");
        const covers = (one: string | { at: string }) => {
          const at = typeof one === "string" ? one : one.at;
          return at === "/**" || at === `/${name}` || at === `/${name}/**`;
        };
        const mayEdit = declared === undefined || declared.edit.some(covers);
        const sheet: Sheet = {
          name,
          field,
          ballot: value as unknown as Ballot,
          own: isMembers(cast) ? (cast.choice as Choice) : undefined,
          act: (act) => seat.propose([{ at: `/${name}`, ...act } as Edit]),
          nameOf: (who) => seat.roster.find((one) => one.id === who)?.name ?? who,
          mayCast: mayEdit && (field.roles === undefined || field.roles.includes(role)),
          may: (power) => declared?.powers?.includes(power) ?? false,
        };
        return <BallotSheet key={name} {...sheet} />;
      })}
    </div>
  );
}

function BallotSheet(given: Sheet) {
  const [own, act] = useCasting(given.field, given.ballot, given.own, given.act);
  const sheet = { ...given, own, act };
  const { name, field, ballot, may, mayCast } = sheet;
  const isClosed = field.sealed === true && ballot.open;
  return (
    <section
      aria-label={ballot.question ?? name}
      className="rounded-box border border-rule bg-sheet"
    >
      <header className="flex flex-wrap items-start gap-x-3 gap-y-1 border-b border-rule px-5 py-4">
        <div className="min-w-0 flex-1">
          <h2 className="text-lg font-semibold tracking-tight text-balance">
            {ballot.question ?? name}
          </h2>
          <p className="text-xs text-faint">
            {mayCast
              ? isClosed
                ? "It was unsealed and takes no more ballots."
                : field.scale === undefined && (field.most ?? 1) > 1
                  ? `Choose up to ${field.most}. You may change your mind.`
                  : "Choose one. You may change your mind."
              : "You look on."}
          </p>
        </div>
        <Badge meaning={ballot.open ? "leaf" : "amber"}>
          {ballot.open ? "results are open" : "sealed"}
        </Badge>
      </header>
      <div className="px-5 py-4">
        {field.scale === undefined ? <Choices {...sheet} /> : <Ruler {...sheet} />}
      </div>
      <footer className="flex min-h-13 flex-wrap items-center gap-x-3 gap-y-2 border-t border-rule px-5 py-2.5">
        <Voters {...sheet} />
        <div className="ml-auto flex gap-2">
          {own !== undefined && mayCast && !isClosed && (
            <Button tone="quiet" onClick={() => act({ op: "withdraw" })}>
              Take mine back
            </Button>
          )}
          {may("unseal") && !ballot.open && (
            <Button tone="main" onClick={() => act({ op: "unseal" })}>
              Unseal
            </Button>
          )}
          {may("restart") && (
            <Button onClick={() => act({ op: "restart" })}>Round {ballot.round + 1}</Button>
          )}
        </div>
      </footer>
      {ballot.earlier.length > 0 && <Earlier ballot={ballot} />}
    </section>
  );
}

/** One row for each choice, which fills up once results are open. */
function Choices({ field, ballot, own, act, mayCast }: Sheet) {
  const chosen = Array.isArray(own) ? own : [];
  const isClosed = (field.sealed === true && ballot.open) || !mayCast;
  const results = ballot.results;
  const top = Math.max(0, ...Object.values(results?.tally ?? {}));
  return (
    <ul className="flex flex-col gap-2">
      {(field.choices ?? []).map((choice) => {
        const isOwn = chosen.includes(choice);
        const count = results?.tally[choice] ?? 0;
        const share = results?.shares?.[choice] ?? 0;
        return (
          <li key={choice}>
            <button
              type="button"
              disabled={isClosed}
              aria-pressed={isOwn}
              onClick={() => act(choosing(field, chosen, choice))}
              className={`relative grid min-h-12 w-full grid-cols-[1.25rem_1fr_auto] items-center gap-3 overflow-hidden rounded-small border px-4 text-left ${
                isOwn ? "border-leaf" : "border-rule"
              } ${isClosed ? "" : "hover:border-leaf"}`}
            >
              <span
                aria-hidden
                className={`absolute inset-y-0 left-0 transition-[width] duration-300 ${
                  count > 0 && count === top ? "bg-leaf-wash" : "bg-sunk"
                }`}
                style={{ width: `${share}%` }}
              />
              <span
                aria-hidden
                className={`relative grid size-5 place-items-center rounded-full border text-xs ${
                  isOwn ? "border-leaf bg-leaf text-on-leaf" : "border-rule bg-sheet"
                }`}
              >
                {isOwn ? "✓" : ""}
              </span>
              <span className="relative text-base font-medium">{choice}</span>
              <span className="num relative w-28 text-right text-sm text-soft">
                {results === null ? "" : `${counted(count, "ballot")} · ${share.toFixed(1)} %`}
              </span>
            </button>
          </li>
        );
      })}
    </ul>
  );
}

/** A scale as a ruler: one's own mark on it, and those of all once results are open. */
function Ruler({ field, ballot, own, act, mayCast, nameOf }: Sheet) {
  const { from, to, step, unsure } = field.scale ?? { from: 0, to: 1, step: 1 };
  const isClosed = (field.sealed === true && ballot.open) || !mayCast;
  const at = (value: number) => `${((value - from) / (to - from)) * 100}%`;
  const results = ballot.results;
  // It is cast where the slider is let go, and not at each place on its way.
  const [moved, setMoved] = useState<number>();
  const cast = () => {
    if (moved !== undefined) act({ op: "cast", value: moved });
    setMoved(undefined);
  };
  const marks = Object.entries(results?.tally ?? {}).filter(([value]) => value !== "unsure");
  const tallest = Math.max(1, ...marks.map(([, count]) => count));
  const ticks = Array.from({ length: 7 }, (_, index) => from + ((to - from) * index) / 6);
  return (
    <div className="flex flex-col gap-3">
      <div className="relative mx-2 h-24" aria-hidden>
        {marks.map(([value, count]) => (
          <span
            key={value}
            className="absolute bottom-6 w-1.5 -translate-x-1/2 rounded-t-small bg-slate"
            style={{ left: at(Number(value)), height: `${(count / tallest) * 3.5}rem` }}
          />
        ))}
        {results?.median !== undefined && (
          <span
            className="absolute top-0 bottom-6 border-l-2 border-dashed border-leaf"
            style={{ left: at(results.median) }}
          />
        )}
        {typeof own === "number" && (
          <span
            className="absolute bottom-4.5 size-3 -translate-x-1/2 rounded-full border-2 border-sheet bg-leaf"
            style={{ left: at(own) }}
          />
        )}
        <span className="absolute inset-x-0 bottom-6 border-b border-faint" />
        {ticks.map((tick) => (
          <span
            key={tick}
            className="num absolute bottom-0 -translate-x-1/2 text-xs text-faint"
            style={{ left: at(tick) }}
          >
            {tick}
          </span>
        ))}
      </div>
      <div className="flex flex-wrap items-center gap-3">
        <input
          type="range"
          aria-label={ballot.question ?? "Your value"}
          className="h-8 min-w-48 flex-1 accent-leaf"
          min={from}
          max={to}
          step={step}
          disabled={isClosed}
          value={moved ?? (typeof own === "number" ? own : (from + to) / 2)}
          onChange={(event) => setMoved(Number(event.target.value))}
          onPointerUp={cast}
          onKeyUp={cast}
          onBlur={cast}
        />
        <output className="num w-16 text-lg font-semibold">
          {moved ?? (own === undefined ? "–" : typeof own === "number" ? own : "?")}
        </output>
        {unsure === true && (
          <Button
            disabled={isClosed}
            aria-pressed={own === "unsure"}
            className={own === "unsure" ? "border-leaf text-leaf" : ""}
            onClick={() => act({ op: "cast", value: "unsure" })}
          >
            I am not sure
          </Button>
        )}
      </div>
      {results !== null && <Measures results={results} nameOf={nameOf} />}
    </div>
  );
}

function Measures({ results, nameOf }: { results: Results; nameOf: (who: string) => string }) {
  const { ask, median, mean, spread } = results;
  const number = (value: number | undefined) => (value === undefined ? "–" : value);
  const asked = [
    ["above the rest", ask?.high ?? []],
    ["below the rest", ask?.low ?? []],
    ["not sure", ask?.unsure ?? []],
  ] as const;
  const isAny = asked.some(([, who]) => who.length > 0);
  return (
    <div className="flex flex-wrap gap-x-8 gap-y-2 text-sm">
      <dl className="flex gap-6">
        {(
          [
            ["median", median],
            ["mean", mean],
            ["spread", spread],
          ] as const
        ).map(([name, value]) => (
          <div key={name}>
            <dt className="text-xs text-faint">{name}</dt>
            <dd className="font-semibold tabular-nums">{number(value)}</dd>
          </div>
        ))}
      </dl>
      {isAny && (
        <div className="min-w-0">
          <div className="text-xs text-faint">worth asking</div>
          <ul className="flex flex-wrap gap-1.5">
            {asked.flatMap(([why, people]) =>
              people.map((who) => (
                <li key={who}>
                  <Badge meaning="amber">
                    {nameOf(who)}, {why}
                  </Badge>
                </li>
              )),
            )}
          </ul>
        </div>
      )}
    </div>
  );
}

/** Who has cast, or how many. */
function Voters({ ballot, nameOf }: Sheet) {
  const names = Object.keys(ballot.voters ?? {});
  const shown = names.slice(0, 8);
  return (
    <p className="min-w-0 text-sm text-soft" aria-live="polite">
      <span className="font-semibold tabular-nums">{counted(ballot.cast, "ballot")}</span>
      {shown.length > 0 && ` by ${shown.map(nameOf).join(", ")}`}
      {names.length > shown.length && ` and ${names.length - shown.length} more`}
    </p>
  );
}

function Earlier({ ballot }: { ballot: Ballot }) {
  const leading = (results: Results | null): string => {
    if (results?.median !== undefined) return `median ${results.median}`;
    const best = Object.entries(results?.tally ?? {}).sort(([, one], [, other]) => other - one)[0];
    return best === undefined ? "was never unsealed" : `${best[0]} led with ${best[1]}`;
  };
  return (
    <ol className="border-t border-rule px-5 py-2.5 text-xs text-faint">
      {ballot.earlier.map(({ round, cast, question, results }) => (
        <li key={round} className="tabular-nums">
          Round {round}
          {question !== ballot.question && question !== null && ` (${question})`}:{" "}
          {counted(cast, "ballot")}, {leading(results)}
        </li>
      ))}
    </ol>
  );
}
