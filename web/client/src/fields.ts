import { tokens } from "./apply.ts";
import type { Edit, Field, Fields, Json } from "./frame.ts";
import { isMembers } from "./members.ts";
import { scalarCount } from "./position.ts";
import type { Problem } from "./problem.ts";
import { uuid7 } from "./uuid.ts";

/** The field to which a path leads, `undefined` where it leads to none that is known. */
export function fieldAt(fields: Fields, path: readonly string[]): Field | undefined {
  const [name, ...inside] = path;
  const field = name === undefined ? undefined : fields[name];
  if (field === undefined || inside.length < 2 || field.each === undefined) return field;
  return fieldAt(field.each, inside.slice(1));
}

/** What a field holds that nothing was said of. */
function initial(field: Field, author: string): Json {
  if (field.filled === "author") return author;
  if (field.initial !== undefined) return field.initial;
  if (field.kind === "counter") return Math.max(field.min ?? 0, Math.min(field.max ?? 0, 0));
  return ({ text: "", map: {}, set: [], list: [] } as Record<string, Json>)[field.kind] ?? null;
}

/** A record as it will be: what was left out has its initial value. */
function filled(fields: Fields, record: Json, author: string): Json {
  if (record === null || typeof record !== "object" || Array.isArray(record)) return record;
  const members = Object.entries(fields).map(([name, field]) => {
    const given = record[name];
    return [name, given === undefined || given === null ? initial(field, author) : given] as const;
  });
  return { ...record, ...Object.fromEntries(members) };
}

/** What an edit will be, as far as a client can know it: its defaults filled in. */
export function foreseen(fields: Fields | undefined, edit: Edit, author: string): Edit {
  if (edit.op !== "put" && edit.op !== "insert") return edit;
  const field = fields && fieldAt(fields, tokens(edit.at));
  const value = field?.each === undefined ? edit.value : filled(field.each, edit.value, author);
  return { ...edit, value };
}

/** An edit with the id of what it makes. */
export function identified(edit: Edit): Edit {
  return edit.op === "put" || edit.op === "insert" ? { ...edit, id: edit.id ?? uuid7() } : edit;
}

/** Why an edit would be refused, as far as a client can know it. */
export function refusalOf(fields: Fields, edit: Edit): Problem | undefined {
  // Within a value there may be anything, and what a role may not see is not declared here.
  const field = fieldAt(fields, tokens(edit.at));
  if (field === undefined) return undefined;
  if (edit.op === "set" && field.kind === "register")
    return misfit(field, edit.value ?? null, edit.at);
  if ((edit.op === "put" || edit.op === "insert") && field.each !== undefined)
    return ofRecord(field.each, edit.value, edit.at);
  if (edit.op === "include" || edit.op === "insert") return misfit(field, edit.value, edit.at);
  return undefined;
}

function ofRecord(fields: Fields, record: Json, at: string): Problem | undefined {
  if (!isMembers(record)) return { kind: "wrong-type", at, detail: "A record is an object." };
  for (const [name, value] of Object.entries(record)) {
    const field = fields[name];
    if (field === undefined)
      return {
        kind: "unknown-path",
        at: `${at}/${name}`,
        detail: `There is no field ${JSON.stringify(name)} here.`,
      };
    if (field.kind !== "register" || value === null) continue;
    const problem = misfit(field, value, `${at}/${name}`);
    if (problem !== undefined) return problem;
  }
  return undefined;
}

/** What is wrong with a value, by the keywords of JSON Schema that say most of it. */
function misfit({ schema = {} }: Field, value: Json, at: string): Problem | undefined {
  if (fits(schema, value)) return undefined;
  return { kind: "wrong-type", at, detail: `The value is to fit ${JSON.stringify(schema)}.` };
}

function fits(schema: { [keyword: string]: Json }, value: Json): boolean {
  const types = [schema.type ?? []].flat();
  if (types.length > 0 && !types.some((type) => isOf(value, type))) return false;
  if (Array.isArray(schema.enum)) return schema.enum.some((one) => same(one, value));
  const isText = typeof value === "string";
  const size = isText ? scalarCount(value) : value;
  const bound = (name: string) => schema[name] ?? size;
  if (typeof size !== "number") return true;
  const [least, most] = isText ? ["minLength", "maxLength"] : ["minimum", "maximum"];
  return size >= Number(bound(least ?? "")) && size <= Number(bound(most ?? ""));
}

function isOf(value: Json, type: Json): boolean {
  if (type === "integer") return Number.isInteger(value);
  if (type === "null") return value === null;
  if (type === "array") return Array.isArray(value);
  if (type === "object") return isMembers(value);
  return typeof value === type;
}

const same = (one: Json, other: Json) => JSON.stringify(one) === JSON.stringify(other);
