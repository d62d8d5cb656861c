/** What a replica says of its state where replicas are compared: loaded once somebody asks. */

import type { Effect, FromParticipant, Json } from "./frame.ts";
import { sha256 } from "./sha256.ts";

/**
 * The digests of a state: of what all of its audience see, and, where there is anything, of what is
 * a replica's own beside that, by the paths of its places. The functions come along, so that nothing
 * is loaded twice.
 */
export async function digestFrame(
  seq: number,
  confirmed: Json,
  places: Iterable<string>,
  canonical: (value: Json) => string,
  valueAt: (state: Json, pointer: string) => Json | undefined,
  applyEffect: (state: Json, effect: Effect) => Json,
): Promise<FromParticipant> {
  const own: { [path: string]: Json } = {};
  let all = confirmed;
  for (const at of places) {
    const value = valueAt(all, at);
    // What is around it may have gone.
    if (value === undefined) continue;
    own[at] = value;
    all = applyEffect(all, { at, op: "hide" });
  }
  const frame = { type: "digest", seq, sha256: await hash(canonical(all)) } as const;
  return all === confirmed ? frame : { ...frame, yours: await hash(canonical(own)) };
}

/** The SHA-256 of a text. Pages without TLS lack the browser's own. */
async function hash(text: string): Promise<string> {
  const { subtle } = globalThis.crypto;
  if (subtle === undefined) return sha256(text);
  const bytes = new Uint8Array(await subtle.digest("SHA-256", new TextEncoder().encode(text)));
  return Array.from(bytes, (byte) => byte.toString(16).padStart(2, "0")).join("");
}
