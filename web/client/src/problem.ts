import type { Json, Problem as Told } from "./frame.ts";

/** The kinds of problems, as docs/protocol.md lists them. */
export const PROBLEM_KINDS = [
  "malformed",
  "unknown-path",
  "unknown-op",
  "wrong-type",
  "out-of-bounds",
  "too-large",
  "too-deep",
  "from-the-future",
  "stale",
  "follows-refused",
  "test-failed",
  "exists",
  "gone",
  "referenced",
  "guard",
  "gate",
  "not-allowed",
  "not-your-turn",
  "nothing-to-undo",
  "seat-taken",
  "held",
  "full",
  "too-fast",
  "frozen",
  "ended",
  "no-session",
  "no-token",
  "bad-token",
  "expired-token",
  "too-old",
  "slow",
  "shutting-down",
  "unavailable",
  "charter",
  "not-found",
  "silent",
  "removed",
  "key-reused",
  "forgotten",
  "wrong-method",
  "wrong-media",
  "crowded",
  "gathering",
  "rule",
] as const;

export type ProblemKind = (typeof PROBLEM_KINDS)[number];

/** Why something did not take effect. */
export type Problem = {
  kind: ProblemKind;
  /** A sentence for a person. */
  detail: string;
  /** The path that it speaks of. */
  at?: string;
  /** What is there now. */
  current?: Json;
  /** How long to wait, in milliseconds. */
  wait_ms?: number;
  /** What might have been meant. */
  did_you_mean?: string;
  [member: string]: Json | undefined;
};

/** A problem as it is told, without what HTTP adds. */
export function problemOf({ type, title: _title, status: _status, ...rest }: Told): Problem {
  return { ...rest, kind: type.replace("urn:rendel:problem:", "") as ProblemKind };
}
