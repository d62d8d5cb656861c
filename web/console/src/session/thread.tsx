import { digest, type Json } from "@rendel/client/parts";
import { useEffect, useState } from "react";
import type { Charter } from "../api.ts";
import { useSigned } from "../auth.tsx";
import { Dot } from "../parts/ui.tsx";
import type { PaneReport } from "./pane.tsx";

type Bead = {
  name: string;
  hue: number;
  seq: number | undefined;
  digest: string | undefined;
  /** What all of its role are shown: only those that are shown the same can be compared. */
  sees: string;
};

/**
 * Whether all replicas are equal: by their digests at the same `seq`, never by looks. Each is a
 * bead on a thread that holds where they agree. The newcomer is who would arrive now: the state
 * over HTTP.
 */
export function Thread({
  session,
  charter,
  seats,
  expected,
}: {
  session: string;
  charter: Charter;
  seats: PaneReport[];
  expected: number;
}) {
  const { token } = useSigned();
  const sees = (role: string | undefined) =>
    JSON.stringify(charter.roles?.[role ?? ""]?.see ?? "all");
  const newest = Math.max(0, ...seats.map(({ seat }) => seat.seq));
  // The backend looks with the eyes of somebody new in the first pane's role.
  const role = token?.role ?? seats[0]?.seat.you?.role;
  const newcomer = useNewcomer(
    session,
    token === undefined ? role : undefined,
    newest,
    seats.length > 0,
  );
  const beads: Bead[] = [
    ...seats.map(({ name, seat }) => ({
      name,
      hue: seat.you?.hue ?? 90,
      seq: seat.you === undefined ? undefined : seat.seq,
      digest: seat.digest(),
      sees: sees(seat.you?.role),
    })),
    {
      name: "a newcomer",
      hue: 90,
      seq: newcomer?.seq,
      digest: newcomer === undefined ? undefined : digest(newcomer.state),
      // With what is its own in it, which no replica of another has.
      sees:
        token !== undefined && sees(role).includes("unless") ? "what is theirs too" : sees(role),
    },
  ];
  const { tone, words } = judge(beads, expected + 1);
  const look = {
    leaf: "border-leaf bg-leaf-wash text-leaf",
    amber: "border-amber bg-amber-wash text-amber",
    brick: "border-brick bg-brick-wash text-brick",
    plain: "border-rule bg-sheet text-soft",
  }[tone];
  const line = {
    leaf: "border-leaf",
    amber: "border-dashed border-amber",
    brick: "border-dotted border-brick",
    plain: "border-dashed border-rule",
  }[tone];
  return (
    <section
      aria-label="Agreement"
      data-tone={tone}
      className={`flex flex-wrap items-center gap-x-4 gap-y-2 rounded-box border px-4 py-2 ${look}`}
    >
      <p role="status" className="min-w-64 flex-1 text-sm font-semibold">
        {words}
      </p>
      <ol className="flex min-w-0 items-center">
        {beads.map((bead, index) => (
          <li key={bead.name} className="flex min-w-0 items-center">
            {index > 0 && <span aria-hidden className={`w-4 border-t-2 sm:w-8 ${line}`} />}
            <span className="flex items-center gap-1.5 rounded-full bg-sheet px-2 py-0.5 text-xs text-ink">
              <Dot hue={bead.hue} />
              <span className="max-sm:hidden">{bead.name}</span>
              <span className="font-mono text-faint">
                {bead.seq === undefined
                  ? "waiting"
                  : `#${bead.seq} ${bead.digest?.slice(0, 4) ?? ""}`}
              </span>
            </span>
          </li>
        ))}
      </ol>
    </section>
  );
}

function judge(
  beads: Bead[],
  expected: number,
): { tone: "leaf" | "amber" | "brick" | "plain"; words: string } {
  const known = beads.filter((bead) => bead.seq !== undefined);
  if (known.length < expected)
    return {
      tone: "plain",
      words: `Waiting for ${expected - known.length} of ${expected} replicas`,
    };
  const newest = Math.max(...known.map((bead) => bead.seq ?? 0));
  const late = known.filter((bead) => bead.seq !== newest);
  const comparable = new Map<string, Set<string>>();
  for (const bead of known) {
    const at = `${bead.seq} ${bead.sees}`;
    comparable.set(at, (comparable.get(at) ?? new Set()).add(bead.digest ?? ""));
  }
  if ([...comparable.values()].some((digests) => digests.size > 1))
    return { tone: "brick", words: `Replicas at the same place differ at #${newest}` };
  if (late.length > 0) {
    const behind = late.map((bead) => `${bead.name} by ${newest - (bead.seq ?? 0)}`).join(", ");
    return {
      tone: "amber",
      words: `Behind #${newest}: ${behind}. Equal where they can be compared`,
    };
  }
  const parts =
    new Set(known.map((bead) => bead.sees)).size > 1 ? ", each in what its role sees" : "";
  return { tone: "leaf", words: `All ${known.length} replicas are equal at #${newest}${parts}` };
}

/** The state that somebody who arrives now would get, read anew after each update. */
function useNewcomer(
  session: string,
  role: string | undefined,
  seq: number,
  isWanted: boolean,
): { seq: number; state: Json } | undefined {
  const { api } = useSigned();
  const [state, setState] = useState<{ seq: number; state: Json }>();
  // biome-ignore lint/correctness/useExhaustiveDependencies: a later seq is read anew
  useEffect(() => {
    if (!isWanted) return;
    let isCurrent = true;
    api.state(session, role).then(
      (next) => {
        if (isCurrent) setState(next);
      },
      () => {
        if (isCurrent) setState(undefined);
      },
    );
    return () => {
      isCurrent = false;
    };
  }, [api, session, role, seq, isWanted]);
  return state;
}
