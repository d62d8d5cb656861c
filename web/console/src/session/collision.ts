import type { Edit, Json } from "@rendel/client";
import type { Charter, Field, Fields } from "../api.ts";
import { pointerToken } from "./state-editor.tsx";
import { shown } from "./words.ts";

/** Two edits of the same thing, to be proposed at the same moment. */
export type Collision = { id: string; title: string; rule: string; edits: [Edit[], Edit[]]; says: [string, string] };

/** A worked collision for each field and rule of a charter, against the present state. */
export function collisions(charter: Charter, view: Json): Collision[] {
  return ofRecord(charter.state, view, "");
}

function ofRecord(fields: Fields, value: Json, path: string): Collision[] {
  return Object.entries(fields).flatMap(([name, field]) =>
    ofField(field, member(value, name), `${path}/${pointerToken(name)}`),
  );
}

function ofField(field: Field, value: Json, at: string): Collision[] {
  if (field.kind === "counter") {
    const edits: Collision["edits"] = [[{ at, op: "add", by: 1 }], [{ at, op: "add", by: 2 }]];
    return [{ id: at, title: at, rule: "all additions count", edits, says: ["adds 1", "adds 2"] }];
  }
  if (field.kind === "register") {
    const [one, two] = twoValues(field, value);
    if (one === undefined || two === undefined) return [];
    const edits: Collision["edits"] = [[{ at, op: "set", value: one }], [{ at, op: "set", value: two }]];
    const rule = RULES[field.merge ?? "last"] ?? "";
    return [{ id: at, title: at, rule, edits, says: [`sets ${shown(one, 30)}`, `sets ${shown(two, 30)}`] }];
  }
  if (field.kind === "set") return ofSet(field, value, at);
  return ofMap(field, value, at);
}

/** For a set: an insert against a remove of the same element. */
function ofSet(field: Field, value: Json, at: string): Collision[] {
  const present = Array.isArray(value) ? value[0] : undefined;
  const element = present ?? twoValues(field, null)[0];
  if (element === undefined) return [];
  const edits: Collision["edits"] = [
    [{ at, op: "insert", value: element }],
    [{ at, op: present === undefined ? "insert" : "remove", value: element }],
  ];
  const says: Collision["says"] = [
    `inserts ${shown(element, 30)}`,
    `${present === undefined ? "inserts" : "removes"} it`,
  ];
  return [{ id: at, title: at, rule: "an insert wins over a concurrent remove", edits, says }];
}

/** For a map: a drop against an edit of the same record, and a collision in each of the record's fields. */
function ofMap(field: Field, value: Json, at: string): Collision[] {
  const first = Object.entries(isMembers(value) ? value : {})[0];
  if (first === undefined) return [];
  const [id, record] = first;
  const inner = ofRecord(field.each ?? {}, record, `${at}/${pointerToken(id)}`);
  const edit = inner[0];
  if (edit === undefined) return inner;
  const drop: Edit = { at: `${at}/${pointerToken(id)}`, op: "drop" };
  const rule = field["drop-conflict"] === "revive" ? "the edit stands, the record stays" : "the drop stands";
  const against: Collision = {
    id: `${drop.at} drop`,
    title: `${drop.at}, drop against edit`,
    rule,
    edits: [edit.edits[0], [drop]],
    says: [`${edit.says[0]} in it`, "drops it"],
  };
  return [...inner, against];
}

const RULES: Record<string, string> = {
  last: "the later in order stands",
  first: "the earlier in order stands",
  max: "the larger stands",
  min: "the smaller stands",
  all: "both stand side by side",
  unchanged: "the later is refused",
};

/** Two values that the schema takes and that differ from each other and from the present one. */
function twoValues(field: Field, value: Json): [Json | undefined, Json | undefined] {
  const schema = field.schema ?? {};
  if (Array.isArray(schema.enum)) {
    const left = schema.enum.filter((choice) => choice !== value);
    return [left[0], left[1] ?? value ?? undefined];
  }
  const type = schema.type ?? (value === null ? "string" : typeof value);
  const present = field.merge === "all" && Array.isArray(value) ? (value[0] ?? null) : value;
  if (type === "string") {
    const most = typeof schema.maxLength === "number" ? schema.maxLength : 80;
    return [`from the left ${stamp()}`.slice(0, most), `from the right ${stamp()}`.slice(0, most)];
  }
  if (type === "number" || type === "integer")
    return [bounded(schema, Number(present ?? 0) + 1), bounded(schema, Number(present ?? 0) + 2)];
  if (type === "boolean") return [true, false];
  if (isMembers(present)) return [nudged(schema, present, 1), nudged(schema, present, 2)];
  return [undefined, undefined];
}

function nudged(schema: { [name: string]: Json }, value: { [name: string]: Json }, by: number): Json {
  const properties = isMembers(schema.properties ?? null) ? (schema.properties as { [name: string]: Json }) : {};
  const entries = Object.entries(value).map(([name, inner]) => {
    const own = properties[name];
    return [
      name,
      typeof inner === "number" ? bounded(own !== undefined && isMembers(own) ? own : {}, inner + by) : inner,
    ];
  });
  return Object.fromEntries(entries) as Json;
}

function bounded(schema: { [name: string]: Json }, number: number): number {
  const max = typeof schema.maximum === "number" ? schema.maximum : Number.POSITIVE_INFINITY;
  return number > max ? number - 5 : number;
}

function stamp(): string {
  return new Date().toLocaleTimeString("en-GB");
}

function isMembers(value: Json): value is { [name: string]: Json } {
  return value !== null && typeof value === "object" && !Array.isArray(value);
}

function member(value: Json, name: string): Json {
  return isMembers(value) ? (value[name] ?? null) : null;
}
