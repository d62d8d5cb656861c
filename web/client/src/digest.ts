import { canonical } from "./canonical.ts";
import type { Json } from "./frame.ts";
import { sha256 } from "./sha256.ts";

/** The SHA-256 of a value's canonical JSON, in lower-case hex. */
export function digest(value: Json): string {
  return sha256(canonical(value));
}
