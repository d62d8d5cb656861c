import { decode, encode } from "cborg";
import type { Codec } from "./connection.ts";
import type { FromService } from "./frame.ts";

/** The same frames as CBOR (RFC 8949): smaller, for whoever moves much. */
export const CBOR_CODEC: Codec = {
  subprotocol: "rendel.v1.cbor",
  // What JSON leaves out is left out here too.
  encode: (frame) => new Uint8Array(encode(JSON.parse(JSON.stringify(frame)))),
  decode: (data) => decode(new Uint8Array(data as ArrayBuffer)) as FromService,
};
