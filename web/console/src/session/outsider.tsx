import type { Json } from "@rendel/client/parts";
import { useCallback, useState } from "react";
import type { Charter } from "../api.ts";
import { useSigned } from "../auth.tsx";
import { Badge, Mishap, Select, Waiting } from "../parts/ui.tsx";
import { useRead } from "../parts/use-read.ts";
import { roleNames } from "./roles.ts";

/**
 * What somebody of another role gets, read as a newcomer would: nothing else leaves the service for
 * them.
 */
export function Outsider({ session, charter }: { session: string; charter: Charter }) {
  const { api } = useSigned();
  const roles = roleNames(charter);
  const [role, setRole] = useState(
    roles.includes("viewer") ? "viewer" : (roles.at(-1) ?? "participant"),
  );
  const { value, error, again } = useRead(
    useCallback(() => api.seenBy(session, role), [api, session, role]),
    1_000,
  );
  const hidden =
    value === undefined ? [] : Object.keys(charter.state).filter((name) => !has(value.state, name));
  return (
    <section
      aria-label={`What ${role} gets`}
      className="flex min-w-0 flex-col rounded-box border border-dashed border-rule bg-sheet"
    >
      <header className="flex flex-wrap items-center gap-x-3 gap-y-1 border-b border-rule px-4 py-2">
        <h2 className="text-sm font-semibold">What they get</h2>
        <Select
          label="Whose view"
          value={role}
          options={roles.map((one) => ({ value: one, text: `a newcomer as ${one}` }))}
          onChange={setRole}
        />
        <span className="num ml-auto text-xs text-faint">#{value?.seq ?? "…"}</span>
      </header>
      {error !== undefined && <Mishap retry={again}>{error.message}</Mishap>}
      {value === undefined && error === undefined && <Waiting>Waiting for the state …</Waiting>}
      {value !== undefined && (
        <>
          <section
            className="max-h-80 overflow-auto"
            // biome-ignore lint/a11y/noNoninteractiveTabindex: scrolled by keyboard
            tabIndex={0}
            aria-label={`The state as ${role} gets it`}
          >
            <pre className="px-4 py-3 font-mono text-xs whitespace-pre-wrap">
              {JSON.stringify(value.state, null, 2)}
            </pre>
          </section>
          <p className="flex min-h-10 flex-wrap items-center gap-1.5 border-t border-rule bg-ground px-4 py-2 text-xs text-faint">
            {hidden.length === 0
              ? "No field is hidden from them as a whole."
              : "Hidden from them, and never sent:"}
            {hidden.map((name) => (
              <Badge key={name} meaning="brick">
                /{name}
              </Badge>
            ))}
          </p>
        </>
      )}
    </section>
  );
}

function has(state: Json, name: string): boolean {
  return state !== null && typeof state === "object" && !Array.isArray(state) && name in state;
}
