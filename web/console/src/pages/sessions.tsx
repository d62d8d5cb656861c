import { useCallback, useDeferredValue, useState } from "react";
import { Link } from "wouter";
import { useSigned } from "../auth.tsx";
import { Badge, Empty, Input, Mishap, Switch, Waiting } from "../parts/ui.tsx";
import { useRead } from "../parts/use-read.ts";

export function SessionsPage() {
  const { api } = useSigned();
  const [charter, setCharter] = useState("");
  const [label, setLabel] = useState("");
  const [freeSeats, setFreeSeats] = useState(false);
  // A label is looked for once it has its value.
  const wanted = useDeferredValue(/^[^=]+=[^,]/.test(label.trim()) ? label.trim() : "");
  const named = useDeferredValue(charter.trim());
  const { value, error, again } = useRead(
    useCallback(
      () => api.sessions({ charter: named, label: wanted, freeSeats }),
      [api, named, wanted, freeSeats],
    ),
    3_000,
  );
  const isSought = named !== "" || wanted !== "" || freeSeats;
  return (
    <div className="mx-auto w-full max-w-5xl px-4 py-6">
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2">
        <h1 className="text-xl font-semibold tracking-tight">Sessions</h1>
        <search className="ml-auto flex flex-wrap items-center gap-3">
          <div className="w-36">
            <Input
              aria-label="Only sessions of this charter"
              placeholder="charter"
              value={charter}
              onChange={(event) => setCharter(event.target.value)}
            />
          </div>
          <div className="w-36">
            <Input
              aria-label="Only sessions with this label, as NAME=VALUE"
              placeholder="label=value"
              value={label}
              onChange={(event) => setLabel(event.target.value)}
            />
          </div>
          <Switch label="free seats" tone="leaf" checked={freeSeats} onChange={setFreeSeats} />
        </search>
      </div>
      <div className="mt-4 overflow-x-auto rounded-box border border-rule bg-sheet">
        {error !== undefined && <Mishap retry={again}>{error.message}</Mishap>}
        {value === undefined && error === undefined && (
          <Waiting>Waiting for the list of sessions …</Waiting>
        )}
        {value?.sessions.length === 0 && isSought && (
          <Empty title="No session is like that">Look for less, or open one.</Empty>
        )}
        {value?.sessions.length === 0 && !isSought && (
          <Empty title="No session is open yet">
            Publish a charter and open one:{" "}
            <code className="font-mono">rendel session open CHARTER</code>
          </Empty>
        )}
        {value !== undefined && value.sessions.length > 0 && (
          <table className="w-full text-sm">
            <thead className="border-b border-rule text-left text-xs text-faint">
              <tr>
                <th className="px-4 py-2 font-medium">Session</th>
                <th className="px-4 py-2 font-medium">Charter</th>
                <th className="px-4 py-2 font-medium">Status</th>
                <th className="num px-4 py-2 font-medium">Free seats</th>
                <th className="num px-4 py-2 font-medium">Updates</th>
                <th className="num px-4 py-2 font-medium">Here</th>
                <th className="px-4 py-2" />
              </tr>
            </thead>
            <tbody>
              {value.sessions.map((session) => (
                <tr key={session.id} className="border-b border-rule last:border-0 hover:bg-ground">
                  <td className="px-4 py-3">
                    <Link
                      href={`/sessions/${session.id}`}
                      className="font-medium text-leaf hover:underline"
                    >
                      {session.title}
                    </Link>
                    <div className="font-mono text-xs text-faint">{session.id}</div>
                    {Object.entries(session.labels ?? {}).map(([name, of]) => (
                      <span key={name} className="mr-2 text-xs text-soft">
                        {name}={of}
                      </span>
                    ))}
                  </td>
                  <td className="px-4 py-3 text-soft">
                    {session.charter} <span className="text-faint">v{session.version}</span>
                  </td>
                  <td className="px-4 py-3">
                    <Badge meaning={session.status === "open" ? "leaf" : "plain"}>
                      {session.status}
                    </Badge>
                  </td>
                  <td className="num px-4 py-3 text-soft">{session.free_seats ?? "–"}</td>
                  <td className="num px-4 py-3">{session.seq.toLocaleString("en")}</td>
                  <td className="num px-4 py-3">{session.participants.toLocaleString("en")}</td>
                  <td className="px-4 py-3 text-right whitespace-nowrap">
                    <Link
                      href={`/sessions/${session.id}/side-by-side`}
                      className="text-leaf hover:underline"
                    >
                      Side by side
                    </Link>
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        )}
      </div>
    </div>
  );
}
