/**
 * Takes part in a session of Rendel: what others change is there, what one changes is shown at
 * once, and the service settles it.
 */

export type { Standing, TokenSource } from "./connection.ts";
export type {
  Cue,
  CueFor,
  Edit,
  Effect,
  Facts,
  Hold,
  Json,
  Participant,
  Place,
  Settled,
  Verdict,
} from "./frame.ts";
export { PROBLEM_KINDS, type Problem, type ProblemKind } from "./problem.ts";
export {
  type AnyHandle,
  type CounterHandle,
  connect,
  type FieldHandle,
  type ListHandle,
  type MapHandle,
  type Options,
  type Outcome,
  Proposal,
  type RecordHandle,
  type RegisterHandle,
  Session,
  type SetHandle,
  type TextHandle,
  type Told,
} from "./session.ts";
export type {
  AnyTyping,
  Beside,
  Counter,
  Kept,
  ListOf,
  MapOf,
  PathOf,
  Register,
  SetOf,
  StateOf,
  Text,
  Typing,
  Undeclared,
  ValueAt,
  ValueOf,
} from "./typing.ts";
