import { useCallback } from "react";
import { Link } from "wouter";
import type { AuditEntry } from "../api.ts";
import { useSigned } from "../auth.tsx";
import { Badge, Empty, type Meaning, Mishap, Panel, Waiting } from "../parts/ui.tsx";
import { useRead } from "../parts/use-read.ts";
import { counted } from "../session/words.ts";

/** Who did what in a session among powers, tokens and invitations. */
export function AuditPage({ id }: { id: string }) {
  const { api } = useSigned();
  const { value, error, again } = useRead(
    useCallback(() => api.audit(id), [api, id]),
    5_000,
  );
  const entries = value?.entries;
  return (
    <div className="mx-auto flex w-full max-w-5xl flex-col gap-4 px-4 py-4">
      <h1 className="text-xl font-semibold tracking-tight">
        <Link href={`/sessions/${id}`} className="hover:underline">
          {id}
        </Link>{" "}
        <span className="font-normal text-faint">who did what</span>
      </h1>
      <Panel
        title="Audit"
        aside={
          entries === undefined
            ? undefined
            : counted(entries.length, "entry").replace("entrys", "entries")
        }
      >
        {error !== undefined && <Mishap retry={again}>{error.message}</Mishap>}
        {entries === undefined && error === undefined && <Waiting>Waiting for the list …</Waiting>}
        {entries?.length === 0 && (
          <Empty title="Nothing was done yet">
            Freezing, removing, invitations and tokens are written down here.
          </Empty>
        )}
        {entries !== undefined && entries.length > 0 && (
          // biome-ignore lint/a11y/noNoninteractiveTabindex: scrolled by keyboard
          <section className="overflow-x-auto" tabIndex={0} aria-label="Audit, table">
            <table className="w-full text-sm">
              <thead className="text-left text-xs text-faint">
                <tr className="border-b border-rule">
                  <th className="px-4 py-2 font-medium">when</th>
                  <th className="px-2 py-2 font-medium">who</th>
                  <th className="px-2 py-2 font-medium">what</th>
                  <th className="px-4 py-2 font-medium">more</th>
                </tr>
              </thead>
              <tbody>
                {entries.map((entry) => (
                  <tr key={entry.ord} className="border-b border-rule last:border-0">
                    <td className="px-4 py-1.5 whitespace-nowrap text-soft tabular-nums">
                      {entry.at.replace("T", " ").replace("Z", "")}
                    </td>
                    <td className="px-2 py-1.5 font-medium whitespace-nowrap">{entry.by}</td>
                    <td className="px-2 py-1.5 whitespace-nowrap">
                      <Badge meaning={MEANINGS[entry.what] ?? "plain"}>{entry.what}</Badge>
                    </td>
                    <td className="px-4 py-1.5 font-mono text-xs text-soft">{more(entry)}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          </section>
        )}
      </Panel>
    </div>
  );
}

/** What keeps somebody out is brick, what stops or overrides amber, what lets somebody in leaf. */
const MEANINGS: Record<string, Meaning> = {
  removed: "brick",
  ended: "brick",
  "revoked tokens": "brick",
  froze: "amber",
  reset: "amber",
  "took over": "amber",
  thawed: "leaf",
  invited: "leaf",
  "came by an invitation": "leaf",
};

function more({ detail }: AuditEntry): string {
  const said = Object.entries(detail).filter(([, value]) => value !== null);
  return said
    .map(([name, value]) => `${name} ${typeof value === "string" ? value : JSON.stringify(value)}`)
    .join(", ");
}
