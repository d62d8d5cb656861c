import type { Participant } from "@rendel/client";
import { Dot, Waiting } from "../parts/ui.tsx";

export function RosterList({ roster, you }: { roster: Participant[]; you: string | undefined }) {
  if (you === undefined) return <Waiting>Waiting for the session …</Waiting>;
  return (
    <ul className="max-h-48 overflow-y-auto py-1 text-sm">
      {roster.map((here) => (
        <li key={here.id} className="flex items-center gap-2 px-4 py-1">
          <Dot hue={here.hue} />
          <span className="truncate font-medium">{here.name}</span>
          {here.id === you && <span className="text-xs text-faint">you</span>}
          <span className="ml-auto text-xs text-faint">{here.role}</span>
          {here.connections > 1 && <span className="num text-xs text-faint">×{here.connections}</span>}
        </li>
      ))}
    </ul>
  );
}
