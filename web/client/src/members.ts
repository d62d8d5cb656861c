import type { Json } from "./frame.ts";

type Members = { [name: string]: Json };

/** Members from which on an object is held in chunks, and those of one chunk at most. */
const LARGE = 512;
const CHUNK = 512;

/**
 * Members in the order of their names; a plain object of them is made once, when it is asked for.
 */
type Chunk = { names: readonly string[]; values: readonly Json[] };

/**
 * A large object whose change copies one chunk of its members in place of all. Immutable, as every
 * value of a state is.
 */
class Chunked {
  readonly size: number;
  readonly #chunks: readonly Chunk[];
  #plain: Members | undefined;

  constructor(chunks: readonly Chunk[], size: number) {
    this.#chunks = chunks;
    this.size = size;
  }

  static of(members: Members): Chunked {
    const names = Object.keys(members).sort();
    const chunks: Chunk[] = [];
    for (let from = 0; from < names.length; from += CHUNK / 2) {
      const part = names.slice(from, from + CHUNK / 2);
      chunks.push({ names: part, values: part.map((name) => members[name] ?? null) });
    }
    return new Chunked(chunks, names.length);
  }

  /** The chunk in which a member is or would be, and where in it. Cost O(log n). */
  #find(name: string): { chunk: Chunk | undefined; at: number; index: number; isThere: boolean } {
    const after = lowest(this.#chunks.length, (at) => (this.#chunks[at]?.names[0] ?? "") > name);
    const at = Math.max(0, after - 1);
    const chunk = this.#chunks[at];
    const names = chunk?.names ?? [];
    const index = lowest(names.length, (place) => (names[place] ?? "") >= name);
    return { chunk, at, index, isThere: names[index] === name };
  }

  get(name: string): Json | undefined {
    const { chunk, index, isThere } = this.#find(name);
    return isThere ? chunk?.values[index] : undefined;
  }

  with(name: string, value: Json): Chunked {
    const { chunk, at, index, isThere } = this.#find(name);
    const { names, values } = chunk ?? { names: [], values: [] };
    if (isThere) return this.#replaced(at, [{ names, values: values.with(index, value) }], 0);
    const more = {
      names: names.toSpliced(index, 0, name),
      values: values.toSpliced(index, 0, value),
    };
    if (more.names.length <= CHUNK) return this.#replaced(at, [more], 1);
    const half = CHUNK / 2;
    const halves = [
      { names: more.names.slice(0, half), values: more.values.slice(0, half) },
      { names: more.names.slice(half), values: more.values.slice(half) },
    ];
    return this.#replaced(at, halves, 1);
  }

  without(name: string): Chunked {
    const { chunk, at, index, isThere } = this.#find(name);
    if (!isThere || chunk === undefined) return this;
    const rest = {
      names: chunk.names.toSpliced(index, 1),
      values: chunk.values.toSpliced(index, 1),
    };
    return this.#replaced(at, rest.names.length > 0 ? [rest] : [], -1);
  }

  #replaced(at: number, chunks: Chunk[], grown: number): Chunked {
    return new Chunked(this.#chunks.toSpliced(at, 1, ...chunks), this.size + grown);
  }

  /** As a plain object. Cost O(n) the first time. */
  plain(): Members {
    this.#plain ??= Object.fromEntries(
      this.#chunks.flatMap(({ names, values }) =>
        names.map((name, index) => [name, plain(values[index] ?? null)] as const),
      ),
    );
    return this.#plain;
  }
}

function lowest(end: number, isAbove: (index: number) => boolean): number {
  let [low, high] = [0, end];
  while (low < high) {
    const middle = (low + high) >> 1;
    if (isAbove(middle)) high = middle;
    else low = middle + 1;
  }
  return low;
}

function chunked(value: Json | undefined): Chunked | undefined {
  return (value as unknown) instanceof Chunked ? (value as unknown as Chunked) : undefined;
}

/** Whether a value has members. */
export function isMembers(value: Json | undefined): value is Members {
  return typeof value === "object" && value !== null && !Array.isArray(value);
}

export function memberOf(members: Members, name: string): Json | undefined {
  const large = chunked(members);
  if (large !== undefined) return large.get(name);
  return Object.hasOwn(members, name) ? members[name] : undefined;
}

/** With another member. Cost O(members), at most O(√n) of a large object. */
export function withMember(members: Members, name: string, value: Json): Json {
  const large = chunked(members);
  if (large !== undefined) return large.with(name, value) as unknown as Json;
  const more = { ...members, [name]: value };
  return Object.keys(more).length < LARGE ? more : (Chunked.of(more) as unknown as Json);
}

export function withoutMember(members: Members, name: string): Json {
  const large = chunked(members);
  if (large !== undefined) return large.without(name) as unknown as Json;
  const { [name]: _gone, ...rest } = members;
  return rest;
}

/** A plain state as a replica holds it: large objects in chunks. Cost O(size). */
export function held(value: Json): Json {
  if (Array.isArray(value)) {
    const inner = value.map(held);
    return inner.every((element, index) => element === value[index]) ? value : inner;
  }
  if (!isMembers(value)) return value;
  const entries = Object.entries(value);
  const inner = entries.map(([name, member]) => [name, held(member)] as const);
  const isSame = inner.every(([, member], index) => member === entries[index]?.[1]);
  if (entries.length < LARGE) return isSame ? value : Object.fromEntries(inner);
  return Chunked.of(Object.fromEntries(inner)) as unknown as Json;
}

const made = new WeakMap<object, Json>();

/**
 * The plain JSON of what a replica holds. What did not change is the same object as before. Cost
 * O(what has changed since the last time, and the members around it).
 */
export function plain(value: Json): Json {
  const large = chunked(value);
  if (large !== undefined) return large.plain();
  if (typeof value !== "object" || value === null) return value;
  const known = made.get(value);
  if (known !== undefined) return known;
  const result = Array.isArray(value) ? plainList(value) : plainMembers(value);
  made.set(value, result);
  return result;
}

function plainList(list: Json[]): Json[] {
  const inner = list.map(plain);
  return inner.every((element, index) => element === list[index]) ? list : inner;
}

function plainMembers(members: Members): Members {
  const entries = Object.entries(members);
  const inner = entries.map(([name, member]) => [name, plain(member)] as const);
  const isSame = inner.every(([, member], index) => member === entries[index]?.[1]);
  return isSame ? members : Object.fromEntries(inner);
}
