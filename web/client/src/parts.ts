/**
 * The parts of a client, for who builds their own. `Replica` is the copy that a client keeps; it
 * does no IO. `Connection` enters, keeps a replica up to date, comes back by itself and sends again
 * what was not answered.
 */

import "./drafts.ts";
import "./presence.ts";

export { applyEdit, applyEffect, valueAt } from "./apply.ts";
export { canonical } from "./canonical.ts";
export {
  Connection,
  type ConnectionEvents,
  type Standing,
  type TokenSource,
} from "./connection.ts";
export { digest } from "./digest.ts";
export type {
  Act,
  Beside,
  Caret,
  Cue,
  CueFor,
  Edit,
  Effect,
  Facts,
  Field,
  Fields,
  FromParticipant,
  FromService,
  Hold,
  HoldChange,
  Json,
  Left,
  Outcome,
  Participant,
  Problem,
  Propose,
  Roster,
  Settled,
  Verdict,
  Welcome,
} from "./frame.ts";
export { type Claim, claim } from "./keeper.ts";
export { KINDS, type KindName } from "./kinds.ts";
export { type Codec, JSON_CODEC } from "./link.ts";
export { scalarCount, spliceBetween, toScalars, toUnits } from "./position.ts";
export { caretOf, followCarets, Glide, pointOf } from "./presence.ts";
export { type Anchor, type Change, type Kept, Replica } from "./replica.ts";
export { uuid7 } from "./uuid.ts";
