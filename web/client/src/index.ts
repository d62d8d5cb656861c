/**
 * A participant's side of a Rendel session, without dependencies.
 *
 * `Replica` is the copy that a client keeps; it does no IO and needs no charter. `Connection` enters over a WebSocket,
 * keeps a replica up to date, comes back by itself and sends again what was not answered.
 */
export { applyEdit, applyEffect } from "./apply.ts";
export { canonical, digest } from "./canonical.ts";
export { Connection, type ConnectionEvents, type Standing } from "./connection.ts";
export type {
  Edit,
  Effect,
  FromParticipant,
  FromService,
  Json,
  Outcome,
  Participant,
  Problem,
  Propose,
  Roster,
  Settled,
  Verdict,
  Welcome,
} from "./frame.ts";
export { scalarCount, spliceBetween, toScalars, toUnits } from "./position.ts";
export { type Anchor, type Change, Replica } from "./replica.ts";
export { uuid7 } from "./uuid.ts";
