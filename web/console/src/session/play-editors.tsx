import type { Act, Edit, Json } from "@rendel/client/parts";
import {
  type Ballot,
  type Chance,
  type Choice,
  type Seats,
  seatOf,
  type Turn,
} from "@rendel/client/play";
import { useContext, useState } from "react";
import type { Field } from "../api.ts";
import { Badge, Button, Input } from "../parts/ui.tsx";
import { CompanyContext } from "./company.tsx";
import { isMembers, member } from "./pointer.ts";
import { StateContext } from "./state-context.ts";
import { TurnTime } from "./time-editors.tsx";
import { shown } from "./words.ts";

type Props = { field: Field; path: string; value: Json; propose: (edits: Edit[]) => void };

/** What an edit of a field asks. */
function acting({ path, propose }: Props) {
  return (act: Act) => propose([{ at: path, ...act }]);
}

/** A number that the service keeps, or one for each group. */
export function TotalValue({ path, value }: Props) {
  if (!isMembers(value))
    return (
      <output className="num text-lg font-semibold" aria-label={path}>
        {value === null ? "–" : Number(value).toLocaleString("en")}
      </output>
    );
  const groups = Object.entries(value);
  if (groups.length === 0) return <span className="text-sm text-faint">No group yet.</span>;
  return (
    <dl className="flex flex-wrap gap-x-4 gap-y-1 text-sm" aria-label={path}>
      {groups.map(([group, of]) => (
        <div key={group} className="flex items-baseline gap-1.5">
          <dt className="text-soft">{group}</dt>
          <dd className="num font-semibold">{shown(of)}</dd>
        </div>
      ))}
    </dl>
  );
}

/** The seats: who sits where, and what one may do about it. */
export function SeatsEditor(props: Props) {
  const { path, value } = props;
  const company = useContext(CompanyContext);
  const [to, setTo] = useState("");
  if (!isMembers(value)) return null;
  const seats = value as unknown as Seats;
  const act = acting(props);
  const you = company?.seat.you?.id;
  const own = seatOf(seats, you);
  const nameOf = (who: string) => company?.seat.roster.find((one) => one.id === who)?.name ?? who;
  return (
    <div className="flex flex-col gap-1.5">
      <ul className="flex flex-wrap gap-1.5" aria-label={path}>
        {Object.entries(seats.by).map(([seat, who]) => (
          <li
            key={seat}
            className="inline-flex min-h-8 items-center gap-2 rounded-small bg-sunk py-0.5 pr-1 pl-2 text-sm"
          >
            <span className="text-soft">{seat}</span>
            <span className="font-medium">{who === null ? "free" : nameOf(who)}</span>
            {seats.away[seat] !== undefined && <Badge meaning="amber">away</Badge>}
            {seats.offers[seat] !== undefined && (
              <Badge meaning="slate">offered to {nameOf(seats.offers[seat])}</Badge>
            )}
            {who === null && own === undefined && (
              <Button className="h-7 px-2" onClick={() => act({ op: "sit", seat })}>
                Sit
              </Button>
            )}
            {seats.offers[seat] === you && you !== undefined && (
              <Button className="h-7 px-2" onClick={() => act({ op: "accept", seat })}>
                Accept
              </Button>
            )}
            {seat === own && (
              <Button tone="quiet" className="h-7 px-2" onClick={() => act({ op: "stand" })}>
                Stand
              </Button>
            )}
          </li>
        ))}
      </ul>
      {seats.gathering && <p className="text-xs text-amber">Waits for more to sit.</p>}
      {own !== undefined && (
        <form
          className="flex items-center gap-1.5"
          onSubmit={(event) => {
            event.preventDefault();
            act({ op: "offer", ...(to.trim() === "" ? {} : { to: to.trim() }) });
            setTo("");
          }}
        >
          <Input
            className="w-36"
            aria-label="Whom to offer your seat"
            placeholder="offer it to"
            value={to}
            onChange={(event) => setTo(event.target.value)}
          />
          <Button type="submit">{to.trim() === "" ? "Take the offer back" : "Offer"}</Button>
        </form>
      )}
    </div>
  );
}

/** Whose turn it is. */
export function TurnEditor(props: Props) {
  const { path, value } = props;
  if (!isMembers(value)) return null;
  const turn = value as unknown as Turn;
  const act = acting(props);
  return (
    <div className="flex flex-wrap items-center gap-2">
      <output className="text-sm font-semibold" aria-label={path}>
        {turn.seat ?? "nobody"}
      </output>
      <span className="num text-xs text-faint">
        turn {turn.number}
        {turn.moves > 0 && `, ${turn.moves} moves`}
        {turn.reversed && ", reversed"}
      </span>
      <TurnTime turn={turn} />
      <Button onClick={() => act({ op: "advance", turn: turn.number })}>Advance</Button>
      <Button tone="quiet" onClick={() => act({ op: "reverse" })}>
        Reverse
      </Button>
    </div>
  );
}

const hex = (bytes: Uint8Array) =>
  Array.from(bytes, (byte) => byte.toString(16).padStart(2, "0")).join("");

function Pending(props: { seat: string; bytes: string | null; act: ReturnType<typeof acting> }) {
  const { seat, bytes, act } = props;
  if (bytes !== null)
    return <Button onClick={() => act({ op: "reveal", value: bytes })}>Reveal</Button>;
  return (
    <Button tone="quiet" onClick={() => act({ op: "waive", seat })}>
      Waive
    </Button>
  );
}

/** What seats add to the next draw. What this page committed to is kept over a reload. */
function EntropyEditor({
  entropy,
  act,
}: {
  entropy: NonNullable<Chance["entropy"]>;
  act: ReturnType<typeof acting>;
}) {
  const kept = (sha256: string) => sessionStorage.getItem(`rendel/entropy/${sha256}`);
  const shares = Object.entries(entropy);
  const isRevealing = shares.some(([, share]) => share.value !== null);
  const commit = async () => {
    const bytes = crypto.getRandomValues(new Uint8Array(32));
    const sha256 = hex(new Uint8Array(await crypto.subtle.digest("SHA-256", bytes)));
    sessionStorage.setItem(`rendel/entropy/${sha256}`, hex(bytes));
    act({ op: "commit", sha256 });
  };
  return (
    <ul className="flex flex-wrap items-center gap-1.5">
      {shares.map(([seat, { sha256, value }]) => (
        <li key={seat} className="flex items-center gap-1.5">
          <Badge meaning={value === null ? "amber" : "leaf"}>
            {seat} {value === null ? "has committed" : "has revealed"}
          </Badge>
          {value === null && <Pending seat={seat} bytes={kept(sha256)} act={act} />}
        </li>
      ))}
      <li>
        <Button disabled={isRevealing} onClick={() => void commit()}>
          Add to the draw
        </Button>
      </li>
    </ul>
  );
}

/** Dice, and values that are dealt anew. */
export function ChanceEditor(props: Props) {
  const { field, path, value } = props;
  const [sides, setSides] = useState("6");
  if (!isMembers(value)) return null;
  const chance = value as unknown as Chance;
  const act = acting(props);
  const last = chance.last;
  const dealt = (field.shuffles ?? []).map((pattern) => {
    const [, of, , name] = pattern.split("/");
    return { of: `/${of}`, field: name ?? "" };
  });
  return (
    <div className="flex flex-col gap-1.5">
      <div className="flex flex-wrap items-center gap-2">
        <output className="text-sm" aria-label={path}>
          {last === null
            ? "Nothing drawn yet."
            : last.kind === "roll"
              ? `Draw ${last.draw}: ${last.values.join(", ")} of ${last.sides}`
              : `Draw ${last.draw}: ${last.of} shuffled`}
        </output>
        {chance.opened !== null && <Badge meaning="leaf">draw {chance.opened.draw} is open</Badge>}
      </div>
      <div className="flex flex-wrap items-center gap-1.5">
        <Input
          className="num w-20"
          aria-label="Sides of the die"
          value={sides}
          onChange={(event) => setSides(event.target.value)}
        />
        <Button
          disabled={!(Number(sides) >= 2)}
          onClick={() => act({ op: "roll", sides: Number(sides), count: 1 })}
        >
          Roll
        </Button>
        {dealt.map((one) => (
          <Button key={`${one.of}/${one.field}`} onClick={() => act({ op: "shuffle", ...one })}>
            Shuffle {one.of} {one.field}
          </Button>
        ))}
        {last?.kind === "shuffle" && (
          <Button tone="quiet" onClick={() => act({ op: "open", draw: last.draw })}>
            Open it
          </Button>
        )}
      </div>
      {chance.entropy !== undefined && <EntropyEditor entropy={chance.entropy} act={act} />}
      <p className="truncate font-mono text-xs text-faint" title={chance.next ?? ""}>
        {chance.next === null ? "not bound yet" : `next ${chance.next.slice(0, 16)}…`}
      </p>
    </div>
  );
}

/** What one has cast on the ballot at a path. */
export function useOwnBallot(path: string): Choice | undefined {
  const you = useContext(CompanyContext)?.seat.you?.id ?? "";
  const ballots = member(useContext(StateContext), `${path.slice(1)}-ballots`);
  const own = member(ballots, you);
  return isMembers(own) ? (own.choice as Choice | undefined) : undefined;
}

/**
 * What one has cast and how to act on a ballot: edits name the round that is shown. The service never
 * sends the choices of a secret ballot, so those are kept here.
 */
export function useCasting(
  field: Field,
  ballot: Ballot,
  own: Choice | undefined,
  send: (act: Act) => void,
): readonly [Choice | undefined, (act: Act) => void] {
  const [kept, setKept] = useState<{ round: number; choice: Choice | undefined }>();
  const { round } = ballot;
  const act = (act: Act) => {
    if (act.op === "cast") setKept({ round, choice: act.choices ?? act.value });
    if (act.op === "withdraw") setKept(undefined);
    send({ ...act, round } as Act);
  };
  const secret = kept?.round === round ? kept.choice : undefined;
  return [field.secret === true ? secret : own, act];
}

/** What one casts who presses a choice: with it, or without it if it was among them. */
export function choosing(field: Field, chosen: readonly string[], choice: string): Act {
  const rest = chosen.filter((one) => one !== choice);
  const choices = rest.length < chosen.length ? rest : [...rest, choice].slice(-(field.most ?? 1));
  return choices.length === 0 ? { op: "withdraw" } : { op: "cast", choices };
}

/** A ballot: one's own, and what all are told. */
export function BallotEditor(props: Props) {
  if (!isMembers(props.value)) return null;
  return <OpenBallot {...props} ballot={props.value as unknown as Ballot} />;
}

function OpenBallot({ ballot, ...props }: Props & { ballot: Ballot }) {
  const { field, path } = props;
  const [number, setNumber] = useState("");
  const [own, act] = useCasting(field, ballot, useOwnBallot(path), acting(props));
  const chosen = Array.isArray(own) ? own : [];
  return (
    <div className="flex flex-col gap-1.5">
      {ballot.question !== null && <p className="text-sm">{ballot.question}</p>}
      <div className="flex flex-wrap items-center gap-1.5">
        {(field.choices ?? []).map((choice) => (
          <Button
            key={choice}
            aria-pressed={chosen.includes(choice)}
            className={chosen.includes(choice) ? "border-leaf text-leaf" : ""}
            onClick={() => act(choosing(field, chosen, choice))}
          >
            {choice}
          </Button>
        ))}
        {field.scale !== undefined && (
          <form
            className="flex items-center gap-1.5"
            onSubmit={(event) => {
              event.preventDefault();
              act({ op: "cast", value: Number(number) });
              setNumber("");
            }}
          >
            <Input
              className="num w-24"
              aria-label={`A value for ${path}`}
              placeholder={own === undefined ? "value" : String(own)}
              value={number}
              onChange={(event) => setNumber(event.target.value)}
            />
            <Button type="submit" disabled={number.trim() === "" || Number.isNaN(Number(number))}>
              Cast
            </Button>
            {field.scale.unsure === true && (
              <Button onClick={() => act({ op: "cast", value: "unsure" })}>Unsure</Button>
            )}
          </form>
        )}
        {own !== undefined && (
          <Button tone="quiet" onClick={() => act({ op: "withdraw" })}>
            Withdraw
          </Button>
        )}
      </div>
      <p className="num text-xs text-faint">
        round {ballot.round} · {ballot.cast} cast · {ballot.open ? "open" : "sealed"}
      </p>
      {ballot.results !== null && (
        <p className="text-xs text-soft">
          {Object.entries(ballot.results.tally)
            .map(([choice, count]) => `${choice} ${count}`)
            .join(" · ")}
          {ballot.results.median !== undefined && ` · median ${ballot.results.median}`}
        </p>
      )}
      <div className="flex gap-1.5">
        {!ballot.open && (
          <Button tone="quiet" onClick={() => act({ op: "unseal" })}>
            Unseal
          </Button>
        )}
        <Button tone="quiet" onClick={() => act({ op: "restart" })}>
          Next round
        </Button>
      </div>
    </div>
  );
}
