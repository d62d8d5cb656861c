import { type Edit, uuid7 } from "@rendel/client/parts";
import { type Seats, seatOf, type Turn } from "@rendel/client/play";
import { useState } from "react";
import type { Charter } from "../api.ts";
import { Button, Dot } from "../parts/ui.tsx";
import type { Seat } from "./use-participant.ts";
import { counted } from "./words.ts";

type Take = { basket: string; apples: number; leaves: number; seat: string; last: boolean };
type Game = {
  seats: Seats;
  turn: Turn;
  left: number;
  taken: { [seat: string]: number };
  winner: { [seat: string]: number };
  baskets: { [id: string]: { apples: number; full: number } };
  takes: { id: string; value: Take }[];
  bags: { [id: string]: { prize?: string; holder: string | null } };
};
type Pick = { basket: string; apples: number };

/** The game at one table, as one who takes part sees it. */
export function Windfall({ seat }: { charter: Charter; seat: Seat }) {
  const [pick, setPick] = useState<Pick>();
  const game = seat.view as unknown as Game;
  const own = seatOf(game.seats, seat.you?.id);
  const winner = Object.keys(game.winner)[0];
  const isOver = game.left === 0;
  const isOurs = own !== undefined && game.turn.seat === own && !isOver;
  const bag = Object.entries(game.bags).find(([, { holder }]) => holder !== null && holder === own);
  const mayTake = isOurs && bag !== undefined;

  const take = ({ basket, apples }: Pick) => {
    const leaves = (game.baskets[basket]?.apples ?? 0) - apples;
    const value = { basket, apples, leaves, seat: own ?? "", last: game.left === apples };
    const edits: Edit[] = [
      { at: `/baskets/${basket}/apples`, op: "add", by: -apples },
      { at: "/takes", op: "insert", id: uuid7(), value },
    ];
    seat.propose(edits);
    setPick(undefined);
  };

  return (
    <div className="flex flex-col gap-4 p-5">
      <div className="grid grid-cols-[1fr_auto_1fr] items-start gap-3">
        {(["east", "west"] as const).map((name, at) => (
          <Player
            key={name}
            name={name}
            game={game}
            seat={seat}
            own={own}
            className={at === 0 ? "items-start" : "order-last items-end"}
          />
        ))}
        <p
          className="pt-1 text-center text-xl font-semibold tabular-nums"
          title="Apples that are left"
        >
          {game.left}
          <span className="block text-xs font-normal text-faint">left</span>
        </p>
      </div>

      <p
        aria-live="polite"
        className={`min-h-10 rounded-small px-3 py-2 text-center text-sm font-medium ${
          isOver || isOurs ? "bg-leaf-wash text-leaf" : "bg-sunk text-soft"
        }`}
      >
        {says(game, { own, winner, hasBag: bag !== undefined })}
      </p>

      <div className="grid grid-cols-3 gap-3">
        {Object.entries(game.baskets).map(([id, { apples, full }]) => (
          <Basket
            key={id}
            id={id}
            apples={apples}
            full={full}
            picked={pick?.basket === id ? Math.min(pick.apples, apples) : 0}
            mayPick={mayTake}
            onPick={(count) => setPick(count === 0 ? undefined : { basket: id, apples: count })}
          />
        ))}
      </div>
      <div className="flex h-10 items-center justify-center">
        {mayTake && pick !== undefined && pick.apples > 0 && (
          <Button tone="main" className="h-10 px-6" onClick={() => take(pick)}>
            Take {counted(pick.apples, "apple")} from {pick.basket}
          </Button>
        )}
      </div>

      <Bags game={game} seat={seat} own={own} hasBag={bag !== undefined} />
      <Takes takes={game.takes} />
    </div>
  );
}

function says(
  game: Game,
  { own, winner, hasBag }: { own: string | undefined; winner: string | undefined; hasBag: boolean },
): string {
  if (winner !== undefined)
    return winner === own
      ? "You took the last apple: your bag is yours."
      : `${winner} took the last apple.`;
  if (game.seats.gathering)
    return own === undefined
      ? "Two seats, three baskets. Sit down."
      : "Waiting for somebody to sit.";
  if (own !== undefined && !hasBag) return "Draw a bag first. Nobody but you sees what is in it.";
  if (game.turn.seat === own && own !== undefined)
    return "Your turn: pick one to three apples of one basket.";
  return `It is the turn of ${game.turn.seat ?? "nobody"}.`;
}

/** A seat at the table, and who sits there. */
function Player({
  name,
  game,
  seat,
  own,
  className,
}: {
  name: string;
  game: Game;
  seat: Seat;
  own: string | undefined;
  className: string;
}) {
  const who = game.seats.by[name] ?? null;
  const one = seat.roster.find(({ id }) => id === who);
  const isTurn = game.turn.seat === name && game.left > 0;
  const isAway = game.seats.away[name] !== undefined;
  const sit: Edit[] = [{ at: "/seats", op: "sit", seat: name }];
  return (
    <div className={`flex min-w-0 flex-col ${className}`}>
      <div className="text-xs text-faint">{name}</div>
      <div className="flex min-h-8 max-w-full items-center">
        {who === null ? (
          own === undefined ? (
            <Button onClick={() => seat.propose(sit)}>Sit {name}</Button>
          ) : (
            <span className="text-sm text-faint">free</span>
          )
        ) : (
          <span
            className={`inline-flex max-w-full items-center gap-2 rounded-small border px-2 py-1 text-sm font-medium ${
              isTurn ? "border-leaf" : "border-transparent"
            }`}
          >
            <Dot hue={one?.hue ?? 90} />
            <span className="truncate">{one?.name ?? who}</span>
          </span>
        )}
      </div>
      <div className="min-h-4 text-xs text-soft tabular-nums">
        {isAway ? "away, the seat is kept" : counted(game.taken[name] ?? 0, "apple")}
      </div>
    </div>
  );
}

/** A basket with its apples; pressing one picks it and those before it, three at most. */
function Basket({
  id,
  apples,
  full,
  picked,
  mayPick,
  onPick,
}: {
  id: string;
  apples: number;
  full: number;
  picked: number;
  mayPick: boolean;
  onPick: (count: number) => void;
}) {
  return (
    <fieldset className="flex min-w-0 flex-col items-center">
      <legend className="mx-auto text-sm font-medium">
        {id} <span className="text-faint tabular-nums">{apples}</span>
      </legend>
      <div className="mt-2 flex h-32 w-full max-w-40 flex-wrap-reverse content-start items-end justify-center gap-1 rounded-b-[2.5rem] border-x-2 border-b-2 border-faint bg-sunk px-3 pb-3">
        {Array.from({ length: full }, (_, at) => {
          const count = apples - at;
          const isPicked = count <= picked;
          // biome-ignore lint/suspicious/noArrayIndexKey: an apple is known by its place
          if (count < 1) return <span key={at} className="size-7" />;
          return (
            <button
              // biome-ignore lint/suspicious/noArrayIndexKey: an apple is known by its place
              key={at}
              type="button"
              disabled={!mayPick || count > 3}
              aria-label={`${counted(count, "apple")} of ${id}`}
              aria-pressed={isPicked}
              onClick={() => onPick(count === picked ? 0 : count)}
              className={`size-7 rounded-full border ${
                isPicked ? "border-amber bg-amber" : "border-leaf bg-leaf"
              } ${mayPick && count <= 3 ? "hover:ring-2 hover:ring-amber" : ""}`}
            />
          );
        })}
      </div>
    </fieldset>
  );
}

function Bags({
  game,
  seat,
  own,
  hasBag,
}: {
  game: Game;
  seat: Seat;
  own: string | undefined;
  hasBag: boolean;
}) {
  const mayDraw = own !== undefined && !hasBag;
  const isFresh = Object.values(game.bags).every(({ holder }) => holder === null);
  return (
    <section aria-label="Bags" className="rounded-small border border-rule">
      <header className="flex min-h-10 items-center justify-between gap-3 border-b border-rule px-3">
        <h3 className="text-sm font-medium">Bags</h3>
        {own !== undefined && isFresh && (
          <Button
            tone="quiet"
            onClick={() =>
              seat.propose([{ at: "/chance", op: "shuffle", of: "/bags", field: "prize" }])
            }
          >
            Shuffle them
          </Button>
        )}
      </header>
      <ul className="grid grid-cols-2 gap-px bg-rule sm:grid-cols-4">
        {Object.entries(game.bags).map(([id, { prize, holder }]) => (
          <li key={id} className="flex min-h-20 flex-col gap-0.5 bg-sheet px-3 py-2 text-sm">
            <span className="text-xs text-faint">
              {id}
              {holder !== null && `, ${holder}`}
            </span>
            {prize !== undefined ? (
              <span className="font-medium text-balance">{prize}</span>
            ) : mayDraw && holder === null ? (
              <Button
                className="mt-1"
                onClick={() =>
                  seat.propose([{ at: `/bags/${id}/holder`, op: "set", value: own ?? "" }])
                }
              >
                Draw
              </Button>
            ) : (
              <span className="text-faint">closed</span>
            )}
          </li>
        ))}
      </ul>
    </section>
  );
}

function Takes({ takes }: { takes: Game["takes"] }) {
  if (takes.length === 0) return <p className="text-xs text-faint">No apple was taken yet.</p>;
  return (
    <ol className="flex flex-wrap gap-x-4 gap-y-1 text-xs text-soft">
      {takes.map(({ id, value }) => (
        <li key={id} className="tabular-nums">
          {value.seat} took {value.apples} of {value.basket}
        </li>
      ))}
    </ol>
  );
}
