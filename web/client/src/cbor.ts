import { decode, encode } from "cborg";
import type { FromService } from "./frame.ts";
import type { Codec } from "./link.ts";

/** The same frames as CBOR (RFC 8949): smaller, for whoever moves much. */
export const CBOR_CODEC: Codec = {
  subprotocol: "rendel.v1.cbor",
  // What JSON leaves out is left out here too.
  encode: (frame) => new Uint8Array(encode(JSON.parse(JSON.stringify(frame)))),
  decode: (data) =>
    asFromJson(decode(new Uint8Array(data as ArrayBuffer), { useMaps: true })) as FromService,
};

/**
 * What `JSON.parse` would have given: an object for each map, whatever its names are, and a number
 * for each integer.
 */
function asFromJson(value: unknown): unknown {
  if (value instanceof Map)
    return Object.fromEntries([...value].map(([name, inner]) => [name, asFromJson(inner)]));
  if (Array.isArray(value)) return value.map(asFromJson);
  return typeof value === "bigint" ? Number(value) : value;
}
