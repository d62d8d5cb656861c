import { encode } from "cborg";
import { expect, test } from "vitest";
import { canonical } from "../src/canonical.ts";
import { CBOR_CODEC } from "../src/cbor.ts";
import { applyEdit, type Edit, type Json } from "../src/parts.ts";

test("a frame is the same in CBOR as in JSON, whatever its names and numbers are", () => {
  const frames = [
    '{"type":"settled","updates":[{"effects":[{"at":"/barrels","op":"put","id":"__proto__","value":{"litres":40}}]}]}',
    '{"state":{"barrels":{"__proto__":{"__proto__":null},"constructor":{}},"rows":[{"__proto__":1}]}}',
    '{"state":{"heads":9007199254740993,"debt":-1152921504606846976,"half":0.5,"one":1,"none":null}}',
  ];
  for (const text of frames) {
    const frame = JSON.parse(text);
    const decoded = CBOR_CODEC.decode(new Uint8Array(encode(frame)).buffer);
    expect(canonical(decoded as unknown as Json)).toBe(canonical(frame));
  }
  const large = new Uint8Array(encode({ heads: 2n ** 60n })).buffer;
  expect(CBOR_CODEC.decode(large)).toEqual({ heads: 2 ** 60 });
});

test("a record may have any id that the service takes", () => {
  const edits: Edit[] = [
    { at: "/barrels", op: "put", id: "__proto__", value: { litres: 40 } },
    { at: "/barrels/__proto__/litres", op: "set", value: 41 },
    { at: "/barrels", op: "put", id: "constructor", value: { litres: 1 } },
    { at: "/barrels/constructor", op: "drop" },
  ];
  const state = edits.reduce<Json>(applyEdit, { barrels: {} });
  expect(JSON.stringify(state)).toBe('{"barrels":{"__proto__":{"litres":41}}}');
});
