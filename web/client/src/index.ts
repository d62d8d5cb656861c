/**
 * A participant's side of a Rendel session. Only the CBOR codec, in `cbor.ts`, has a dependency.
 *
 * `Replica` is the copy that a client keeps; it does no IO and needs no charter. `Connection`
 * enters over a WebSocket, keeps a replica up to date, comes back by itself and sends again what
 * was not answered.
 */

export { applyEdit, applyEffect } from "./apply.ts";
export { canonical, digest } from "./canonical.ts";
export {
  type Codec,
  Connection,
  type ConnectionEvents,
  JSON_CODEC,
  type Standing,
} from "./connection.ts";
export type {
  Caret,
  Cue,
  CueFor,
  Edit,
  Effect,
  Facts,
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
export { scalarCount, spliceBetween, toScalars, toUnits } from "./position.ts";
export { caretOf, followCarets, Glide, pointOf } from "./presence.ts";
export { type Anchor, type Change, type Kept, Replica } from "./replica.ts";
export { uuid7 } from "./uuid.ts";
