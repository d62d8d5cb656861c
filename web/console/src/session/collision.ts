import { type Edit, type Json, type KindName, scalarCount, uuid7 } from "@rendel/client/parts";
import type { Charter, Field, Fields } from "../api.ts";
import { isMembers, member, pointerToken } from "./pointer.ts";
import { shown } from "./words.ts";

/** Two edits of the same thing, to be proposed at the same moment. */
export type Collision = {
  id: string;
  title: string;
  rule: string;
  edits: [Edit[], Edit[]];
  says: [string, string];
};

/** A worked collision for each field and rule of a charter, against the present state. */
export function collisions(charter: Charter, view: Json): Collision[] {
  return [...ofRecord(charter.state, view, ""), ...ofReferences(charter.state, view)];
}

function ofRecord(fields: Fields, value: Json, path: string): Collision[] {
  return Object.entries(fields).flatMap(([name, field]) =>
    ofField(field, member(value, name), `${path}/${pointerToken(name)}`),
  );
}

function ofField(field: Field, value: Json, at: string): Collision[] {
  return COLLISIONS[field.kind](field, value, at);
}

/** A field of each kind against itself. */
const COLLISIONS: Record<KindName, (field: Field, value: Json, at: string) => Collision[]> = {
  ballot: (field, _value, at) => {
    const [one, two = one] = field.choices ?? [];
    const cast = (choice: string | undefined, number: number): Edit[] => [
      choice === undefined
        ? { at, op: "cast", value: number }
        : { at, op: "cast", choices: [choice] },
    ];
    const { from = 0, to = 0 } = field.scale ?? {};
    const edits: Collision["edits"] = [cast(one, from), cast(two, to)];
    const says: Collision["says"] = [`casts ${one ?? from}`, `casts ${two ?? to}`];
    return [{ id: at, title: at, rule: "each has one ballot, and both count", edits, says }];
  },
  random: (_field, _value, at) => {
    const roll: Edit[] = [{ at, op: "roll", sides: 6 }];
    const rule = "each is a draw of its own, bound before it was asked for";
    return [{ id: at, title: at, rule, edits: [roll, roll], says: ["rolls", "rolls"] }];
  },
  clock: (_field, _value, at) => {
    const edits: Collision["edits"] = [[{ at, op: "start" }], [{ at, op: "seek", to: 30_000 }]];
    const rule = "the later in the order holds";
    return [{ id: at, title: at, rule, edits, says: ["starts it", "goes to 30 s"] }];
  },
  deadline: (_field, _value, at) => {
    const edits: Collision["edits"] = [
      [{ at, op: "set", in: "10m" }],
      [{ at, op: "extend", by: "1m" }],
    ];
    const rule = "the later in the order moves what the earlier has set";
    return [{ id: at, title: at, rule, edits, says: ["sets 10 minutes", "adds a minute"] }];
  },
  seats: (_field, value, at) => {
    const by = member(value, "by");
    const seats = Object.entries(isMembers(by) ? by : {});
    const seat = (seats.find(([, who]) => who === null) ?? seats[0])?.[0];
    if (seat === undefined) return [];
    const sit: Edit[] = [{ at, op: "sit", seat }];
    const rule = "the first to sit has the seat";
    return [{ id: at, title: at, rule, edits: [sit, sit], says: [`sits ${seat}`, `sits ${seat}`] }];
  },
  total: () => [],
  turn: (_field, _value, at) => {
    const advance: Edit[] = [{ at, op: "advance" }];
    const rule = "it is only the seat whose turn it is that hands it on";
    const says: Collision["says"] = ["hands it on", "hands it on"];
    return [{ id: at, title: at, rule, edits: [advance, advance], says }];
  },
  counter: (_field, _value, at) => {
    const edits: Collision["edits"] = [[{ at, op: "add", by: 1 }], [{ at, op: "add", by: 2 }]];
    return [{ id: at, title: at, rule: "all additions count", edits, says: ["adds 1", "adds 2"] }];
  },
  list: ofList,
  map: ofMap,
  register: (field, value, at) => {
    // What refers to records is collided below, against a drop of the record.
    if (field.refers !== undefined) return [];
    const [one, two] = twoValues(field, value);
    if (one === undefined || two === undefined) return [];
    const edits: Collision["edits"] = [
      [{ at, op: "set", value: one }],
      [{ at, op: "set", value: two }],
    ];
    const rule = RULES[field.merge ?? "last"] ?? "";
    return [
      {
        id: at,
        title: at,
        rule,
        edits,
        says: [`sets ${shown(one, 30)}`, `sets ${shown(two, 30)}`],
      },
    ];
  },
  set: ofSet,
  text: (_field, value, at) => ofText(value, at),
};

/** For a set: an include against an exclude of the same element. */
function ofSet(field: Field, value: Json, at: string): Collision[] {
  const present = Array.isArray(value) ? value[0] : undefined;
  const element = present ?? twoValues(field, null)[0];
  if (element === undefined) return [];
  const edits: Collision["edits"] = [
    [{ at, op: "include", value: element }],
    [{ at, op: present === undefined ? "include" : "exclude", value: element }],
  ];
  const says: Collision["says"] = [
    `includes ${shown(element, 30)}`,
    `${present === undefined ? "includes" : "excludes"} it`,
  ];
  return [{ id: at, title: at, rule: "an include wins over a concurrent exclude", edits, says }];
}

/**
 * For a text: two inserts at one place, an insert inside what another deletes, and deletes that
 * overlap.
 */
function ofText(value: Json, at: string): Collision[] {
  const text = typeof value === "string" ? value : "";
  const length = scalarCount(text);
  const splice = (index: number, gone: number, insert: string): Edit[] => [
    { at, op: "splice", index, delete: gone, insert },
  ];
  const middle = Math.floor(length / 2);
  const both: Collision = {
    id: at,
    title: `${at}, two inserts at one place`,
    rule: "both stand, one after the other",
    edits: [splice(middle, 0, "left"), splice(middle, 0, "right")],
    says: [`types "left" at ${middle}`, `types "right" at ${middle}`],
  };
  if (length < 4) return [both];
  const [from, most] = [Math.max(0, middle - 3), Math.min(6, length - Math.max(0, middle - 3))];
  const inside: Collision = {
    id: `${at} inside`,
    title: `${at}, an insert inside what is deleted`,
    rule: "what is typed stays, what is deleted goes",
    edits: [splice(from + 2, 0, "kept"), splice(from, most, "")],
    says: [`types "kept" at ${from + 2}`, `deletes ${most} around it`],
  };
  const overlap: Collision = {
    id: `${at} overlap`,
    title: `${at}, deletes that overlap`,
    rule: "the same characters count once",
    edits: [splice(from, most - 1, ""), splice(from + 1, most - 1, "")],
    says: [`deletes ${most - 1} from ${from} on`, `deletes ${most - 1} from ${from + 1} on`],
  };
  return [both, inside, overlap];
}

/**
 * For a list: two moves, two inserts at one place, an edit against a remove; for one that only
 * grows, two inserts.
 */
function ofList(field: Field, value: Json, at: string): Collision[] {
  const elements = (Array.isArray(value) ? value : []) as { id: string; value: Json }[];
  const [first, second] = elements;
  const place: { after?: string | null } =
    field["append-only"] === true ? {} : { after: first?.id ?? null };
  const insert = (text: string): Edit[] => [
    { at, op: "insert", id: uuid7(), value: newElement(field, text), ...place },
  ];
  const beside =
    first === undefined || field["append-only"] === true ? "at the end" : `after ${first.id}`;
  const inserts: Collision = {
    id: at,
    title: `${at}, two inserts at one place`,
    rule: "both stand, one after the other",
    edits: [insert("from the left"), insert("from the right")],
    says: [`inserts ${beside}`, `inserts ${beside}`],
  };
  if (first === undefined || field["append-only"] === true) return [inserts];
  const inner = ofRecord(field.each ?? {}, first.value, `${at}/${pointerToken(first.id)}`);
  const path = `${at}/${pointerToken(first.id)}`;
  const remove: Edit[] = [{ at: path, op: "remove" }];
  const edit = inner[0];
  const removes: Collision = {
    id: `${at} remove`,
    title: `${path}, remove against ${edit === undefined ? "move" : "edit"}`,
    rule: "the remove stands",
    edits: [edit?.edits[0] ?? [{ at: path, op: "move", before: null }], remove],
    says: [edit === undefined ? "moves it to the end" : `${edit.says[0]} in it`, "removes it"],
  };
  if (second === undefined) return [inserts, ...inner, removes];
  const moves: Collision = {
    id: `${at} move`,
    title: `${path}, two moves`,
    rule: "the later in order stands, nothing is doubled",
    edits: [[{ at: path, op: "move", before: null }], [{ at: path, op: "move", after: second.id }]],
    says: ["moves it to the end", `moves it after ${second.id}`],
  };
  return [inserts, moves, ...inner, removes];
}

/** An element that the charter takes, with a text in it where it has one. */
function newElement(field: Field, text: string): Json {
  if (field.each === undefined) return text;
  const name = Object.entries(field.each).find(([, inner]) => inner.schema?.type === "string")?.[0];
  return name === undefined ? {} : { [name]: text };
}

/** For each reference: it is set to a record while somebody else drops that. */
function ofReferences(fields: Fields, view: Json): Collision[] {
  return Object.entries(fields).flatMap(([name, field]) => {
    const [id, record] =
      Object.entries(isMembers(member(view, name)) ? (member(view, name) as object) : {})[0] ?? [];
    if (field.kind !== "map" || id === undefined) return [];
    return Object.entries(field.each ?? {}).flatMap(([inner, { refers }]) => {
      const target = refers && Object.keys((member(view, refers.to.slice(1)) ?? {}) as object);
      const to = target?.find((one) => one !== member(record as Json, inner)) ?? target?.[0];
      if (refers === undefined || to === undefined) return [];
      const at = `/${pointerToken(name)}/${pointerToken(id)}/${pointerToken(inner)}`;
      const rules: Record<string, string> = {
        cascade: "the record that refers goes too",
        clear: "the reference is cleared",
        refuse: "the drop is refused",
      };
      const collision: Collision = {
        id: `${at} refers`,
        title: `${at}, reference against drop`,
        rule: rules[refers["on-drop"] ?? "refuse"] ?? "",
        edits: [
          [{ at, op: "set", value: to }],
          [{ at: `${refers.to}/${pointerToken(to)}`, op: "drop" }],
        ],
        says: [`sets it to ${shown(to)}`, "drops that record"],
      };
      return [collision];
    });
  });
}

/**
 * For a map: a drop against an edit of the same record, and a collision in each of the record's
 * fields.
 */
function ofMap(field: Field, value: Json, at: string): Collision[] {
  const first = Object.entries(isMembers(value) ? value : {})[0];
  if (first === undefined) return [];
  const [id, record] = first;
  const inner = ofRecord(field.each ?? {}, record, `${at}/${pointerToken(id)}`);
  const edit = inner[0];
  if (edit === undefined) return inner;
  const drop: Edit = { at: `${at}/${pointerToken(id)}`, op: "drop" };
  const rule =
    field["drop-conflict"] === "revive" ? "the edit stands, the record stays" : "the drop stands";
  const against: Collision = {
    id: `${at} drop`,
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

function nudged(
  schema: { [name: string]: Json },
  value: { [name: string]: Json },
  by: number,
): Json {
  const properties = isMembers(schema.properties ?? null)
    ? (schema.properties as { [name: string]: Json })
    : {};
  const entries = Object.entries(value).map(([name, inner]) => {
    const own = properties[name];
    return [
      name,
      typeof inner === "number"
        ? bounded(own !== undefined && isMembers(own) ? own : {}, inner + by)
        : inner,
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
