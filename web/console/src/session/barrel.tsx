import { uuid7 } from "@rendel/client/parts";
import { type Deadline, timeLeft } from "@rendel/client/play";
import { useEffect, useId, useState } from "react";
import type { Charter } from "../api.ts";
import { Badge, Button, Dot, Input } from "../parts/ui.tsx";
import { remaining, useNow } from "./time-editors.tsx";
import type { Seat } from "./use-participant.ts";
import { counted } from "./words.ts";

type Offer = { amount: number; bidder: string };
type Sale = {
  lot: string;
  status: "open" | "sold" | "kept";
  reserve?: number;
  leading: Offer | null;
  winner: string | null;
  offers: { [id: string]: Offer };
  made: number;
  closing: Deadline;
};

/** By how much an offer beats the leading one at least. */
const STEP = 5;
/** Within so many milliseconds of the end an offer moves it. */
const LATE = 10_000;

/** The barrel that is for sale, as one who may bid for it sees it. */
export function LastBarrel({ seat }: { charter: Charter; seat: Seat }) {
  const sale = seat.view as unknown as Sale;
  const isOpen = sale.status === "open";
  const now = useNow(seat.now, isOpen && sale.closing.due !== null, 100);
  const left = timeLeft(sale.closing, now);
  const nameOf = (who: string) => seat.roster.find(({ id }) => id === who)?.name ?? who;
  const isOurs = sale.leading !== null && sale.leading.bidder === seat.you?.id;
  return (
    <div className="flex flex-col gap-4 p-5">
      <div className="flex flex-wrap items-end justify-between gap-x-6 gap-y-2">
        <div className="min-w-0">
          <p className="text-xs text-faint">for sale</p>
          <p className="text-xl font-semibold tracking-tight text-balance">{sale.lot}</p>
        </div>
        <div className="text-right">
          <p className="text-xs text-faint">{isOpen ? "ends in" : "is over"}</p>
          <p
            role="timer"
            className={`min-w-24 text-xl font-semibold tabular-nums ${
              left !== undefined && left < LATE ? "text-amber" : ""
            }`}
          >
            {left === undefined ? "–" : remaining(left)}
          </p>
        </div>
      </div>

      <p
        aria-live="polite"
        className={`min-h-10 rounded-small px-3 py-2 text-center text-sm font-medium ${
          isOurs ? "bg-leaf-wash text-leaf" : "bg-sunk text-soft"
        }`}
      >
        {says(sale, isOurs, nameOf)}
      </p>

      {seat.you?.role === "bidder" && <Bid sale={sale} seat={seat} />}
      {sale.reserve !== undefined && (
        <p className="text-xs text-faint">
          It is not sold below <span className="num font-medium text-soft">{sale.reserve}</span>.
          Bidders do not see that.
        </p>
      )}
      <Offers sale={sale} seat={seat} nameOf={nameOf} />
    </div>
  );
}

function says({ status, leading, winner }: Sale, isOurs: boolean, nameOf: (who: string) => string) {
  if (status === "kept") return "Nobody offered enough: the barrel stays.";
  if (leading === null) return "Nobody has made an offer yet.";
  const sum = leading.amount.toLocaleString("en");
  if (status === "sold")
    return isOurs
      ? `It is yours for ${sum}.`
      : `Sold to ${nameOf(winner ?? leading.bidder)} for ${sum}.`;
  return isOurs ? `You lead with ${sum}.` : `${nameOf(leading.bidder)} leads with ${sum}.`;
}

/** What one offers: the least that counts, unless one says more. */
function Bid({ sale, seat }: { sale: Sale; seat: Seat }) {
  const least = (sale.leading?.amount ?? 0) + STEP;
  const [text, setText] = useState("");
  const [of, setOf] = useState(least);
  const field = useId();
  // What was meant against an earlier offer is not offered against a later one.
  useEffect(() => {
    if (of !== least) setText("");
    setOf(least);
  }, [of, least]);
  const amount = text.trim() === "" ? least : Number(text);
  const isGood = Number.isInteger(amount) && amount >= least;
  const offer = (amount: number) => {
    const value = { amount };
    seat.propose([{ at: "/offers", op: "put", id: uuid7(), value }]);
    setText("");
  };
  const isOpen = sale.status === "open";
  return (
    <form
      className="flex flex-wrap items-center gap-2"
      onSubmit={(event) => {
        event.preventDefault();
        if (isGood && isOpen) offer(amount);
      }}
    >
      <label htmlFor={field} className="text-sm text-soft">
        Your offer
      </label>
      <Input
        id={field}
        className="num w-24"
        inputMode="numeric"
        placeholder={String(least)}
        value={text}
        disabled={!isOpen}
        aria-invalid={!isGood}
        onChange={(event) => setText(event.target.value)}
      />
      <Button type="submit" tone="main" disabled={!isGood || !isOpen} className="min-w-28">
        Offer {isGood ? amount.toLocaleString("en") : "–"}
      </Button>
      {[10, 25].map((more) => (
        <Button key={more} disabled={!isOpen} onClick={() => offer(least - STEP + more)}>
          +{more}
        </Button>
      ))}
      <span className="min-h-4 basis-full text-xs text-brick">
        {isGood ? "" : `At least ${least}: it beats the leading offer by ${STEP}.`}
      </span>
    </form>
  );
}

function Offers({
  sale,
  seat,
  nameOf,
}: {
  sale: Sale;
  seat: Seat;
  nameOf: (who: string) => string;
}) {
  const offers = Object.entries(sale.offers).sort(([, one], [, two]) => two.amount - one.amount);
  return (
    <section aria-label="Offers" className="rounded-small border border-rule">
      <header className="flex min-h-10 items-center justify-between gap-3 border-b border-rule px-3">
        <h3 className="text-sm font-medium">Offers</h3>
        <span className="text-xs text-faint">{counted(sale.made, "offer")}</span>
      </header>
      {offers.length === 0 && <p className="px-3 py-3 text-sm text-faint">None yet.</p>}
      <ol className="max-h-72 overflow-y-auto">
        {offers.slice(0, 50).map(([id, { amount, bidder }], at) => (
          <li
            key={id}
            className="flex min-h-9 items-center gap-2 border-b border-rule px-3 text-sm last:border-0"
          >
            <Dot hue={seat.roster.find((one) => one.id === bidder)?.hue ?? 90} />
            <span className="min-w-0 truncate">{nameOf(bidder)}</span>
            {at === 0 && <Badge meaning="leaf">{sale.status === "open" ? "leads" : "led"}</Badge>}
            <span className="num ml-auto font-semibold">{amount.toLocaleString("en")}</span>
          </li>
        ))}
      </ol>
    </section>
  );
}
