// Made from the charter tasting-notes version 1 by `rendel charter types`. Do not edit.

import type { Counter, Text } from "@rendel/client";

/** What the charter declares: `connect<TastingNotes>({ … })`. */
export type TastingNotes = {
  fields: {
    notes: Text;
    sweet: Counter;
    dry: Counter;
  };
  role: "taster";
  presence: { [name: string]: never };
  cues: { [name: string]: never };
  edits: TastingNotesEdit;
};

/** An edit that the charter knows. */
export type TastingNotesEdit =
  | { at: "/notes"; op: "splice"; index: number; delete?: number; insert?: string }
  | { at: "/sweet"; op: "add"; by: number }
  | { at: "/dry"; op: "add"; by: number };
