// Made from the charter shared-list version 1 by `rendel charter types`. Do not edit.

import type { MapOf, Register } from "@rendel/client";

/** What the charter declares: `connect<SharedList>({ … })`. */
export type SharedList = {
  fields: {
    items: MapOf<{
      what: Register<string>;
      done: Register<boolean>;
      by: Register<string>;
    }>;
  };
  role: "member";
  presence: { [name: string]: never };
  cues: { [name: string]: never };
  edits: SharedListEdit;
};

/** An edit that the charter knows. */
export type SharedListEdit =
  | { at: "/items"; op: "put"; id?: string; value: { what?: string | null; done?: boolean | null; by?: string | null } }
  | { at: `/items/${string}`; op: "drop" }
  | { at: `/items/${string}/what`; op: "set" | "test"; value: string }
  | { at: `/items/${string}/what`; op: "clear" }
  | { at: `/items/${string}/done`; op: "set" | "test"; value: boolean }
  | { at: `/items/${string}/done`; op: "clear" }
  | { at: `/items/${string}/by`; op: "set" | "test"; value: string }
  | { at: `/items/${string}/by`; op: "clear" };
