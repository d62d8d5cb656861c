import type { ComponentType } from "react";
import type { Charter } from "../api.ts";
import { LastBarrel } from "./barrel.tsx";
import { PickingBoard } from "./picking.tsx";
import { Poll } from "./poll.tsx";
import type { Seat } from "./use-participant.ts";
import { Windfall } from "./windfall.tsx";

/** A page on which people do what a session is for, in place of editing its state. */
export type Table = {
  /** What one does there, and in which role; the first of the charter where none is said. */
  verb: string;
  role?: string;
  Shown: ComponentType<{ charter: Charter; seat: Seat }>;
};

/** The table of a charter, if it has one. */
export function tableOf(charter: Charter | undefined): Table | undefined {
  if (charter === undefined) return undefined;
  if (charter.charter === "last-barrel") return { verb: "Bid", role: "bidder", Shown: LastBarrel };
  if (charter.charter === "windfall") return { verb: "Play", Shown: Windfall };
  if (charter.charter === "picking-board")
    return { verb: "Pick", role: "picker", Shown: PickingBoard };
  const hasBallot = Object.values(charter.state).some((field) => field.kind === "ballot");
  return hasBallot ? { verb: "Vote", Shown: Poll } : undefined;
}
