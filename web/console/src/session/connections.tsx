import { useCallback } from "react";
import { useSigned } from "../auth.tsx";
import { Badge, Empty, Mishap, Panel, Waiting } from "../parts/ui.tsx";
import { useRead } from "../parts/use-read.ts";
import { counted } from "./words.ts";

const WAYS: Record<string, string> = {
  json: "WebSocket, JSON",
  cbor: "WebSocket, CBOR",
  events: "events, updates",
  patches: "events, JSON Patch",
};

/** Who is connected to a session and how far behind each is, read anew every two seconds. */
export function Connections({ session }: { session: string }) {
  const { api } = useSigned();
  const { value, error, again } = useRead(
    useCallback(() => api.connections(session), [api, session]),
    2_000,
  );
  const list = value?.connections;
  return (
    <Panel
      title="Connections"
      aside={list === undefined ? undefined : counted(list.length, "connection")}
    >
      {error !== undefined && <Mishap retry={again}>{error.message}</Mishap>}
      {list === undefined && error === undefined && <Waiting>Waiting for the list …</Waiting>}
      {list?.length === 0 && <Empty title="Nobody is connected">Who enters shows up here.</Empty>}
      {list !== undefined && list.length > 0 && (
        // biome-ignore lint/a11y/noNoninteractiveTabindex: scrolled by keyboard
        <section className="overflow-x-auto" tabIndex={0} aria-label="Connections, table">
          <table className="w-full text-sm">
            <thead className="text-xs text-faint">
              <tr className="border-b border-rule">
                <th className="px-4 py-2 text-left font-medium">who</th>
                <th className="px-2 py-2 text-left font-medium">way</th>
                <th className="px-2 py-2 text-left font-medium">from</th>
                <th className="num px-2 py-2 font-medium">lag, updates</th>
                <th className="num px-2 py-2 font-medium">lag, ms</th>
                <th className="num px-2 py-2 font-medium">queue, frames</th>
                <th className="num px-2 py-2 font-medium">queue, KiB</th>
                <th className="num px-4 py-2 font-medium">catch-ups</th>
              </tr>
            </thead>
            <tbody>
              {list.map((one) => (
                <tr key={one.client} className="border-b border-rule last:border-0">
                  <td className="px-4 py-1.5 whitespace-nowrap">
                    <span className="font-medium">{one.name}</span>{" "}
                    <span className="text-faint">{one.role}</span>
                  </td>
                  <td className="px-2 py-1.5 whitespace-nowrap text-soft">
                    {WAYS[one.way] ?? one.way}
                  </td>
                  <td className="px-2 py-1.5 font-mono text-xs text-soft">{one.address}</td>
                  <td className="num px-2 py-1.5">{one.lag.toLocaleString("en")}</td>
                  <td className="num px-2 py-1.5">{one.lag_ms.toLocaleString("en")}</td>
                  <td className="num px-2 py-1.5">{one.queue.toLocaleString("en")}</td>
                  <td className="num px-2 py-1.5">{(one.queue_bytes / 1024).toFixed(1)}</td>
                  <td className="num px-4 py-1.5">
                    {one.catch_ups === 0 ? "0" : <Badge meaning="amber">{one.catch_ups}</Badge>}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </section>
      )}
    </Panel>
  );
}
