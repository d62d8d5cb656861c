import { Badge } from "../parts/ui.tsx";
import type { Seat } from "./use-participant.ts";

/** Where a connection stands, in a word and what is unsent. */
export function StandingBadge({ seat }: { seat: Seat }) {
  const unsent = seat.unsent > 0 && seat.standing !== "present" ? `, ${seat.unsent} unsent` : "";
  switch (seat.standing) {
    case "present":
      return <Badge meaning="leaf">present</Badge>;
    case "waiting":
      return <Badge>waiting</Badge>;
    case "catching-up":
      return <Badge meaning="slate">catching up{unsent}</Badge>;
    case "offline":
      return <Badge meaning="amber">offline{unsent}</Badge>;
    case "away":
      return <Badge meaning="amber">away{unsent}</Badge>;
    default:
      return <Badge meaning="brick">ended</Badge>;
  }
}
