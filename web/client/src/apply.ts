import { canonical } from "./canonical.ts";
import type { Act, Edit, Effect, Json, Place } from "./frame.ts";
import { held, isMembers, memberOf, withMember, withoutMember } from "./members.ts";
import { scalarCount, toUnits } from "./position.ts";

/** Thrown for an effect that does not fit: the replica has diverged and needs a snapshot. */
export class Misapplied extends Error {}

/**
 * The state after a settled effect. The given state stays as it is; what did not change is shared
 * with it, so that a view can tell by identity what to draw again.
 */
export function applyEffect(state: Json, effect: Effect): Json {
  return change(state, effect, true);
}

/**
 * The state after an own edit that has no answer yet, as far as that can be foreseen; else the
 * state as it is.
 */
export function applyEdit(state: Json, edit: Edit): Json {
  try {
    return change(state, edit, false);
  } catch (error) {
    if (error instanceof Misapplied) return state;
    throw error;
  }
}

function change(state: Json, step: Edit | Effect, isSettled: boolean): Json {
  const path = tokens(step.at);
  switch (step.op) {
    case "show":
    case "set": {
      const value = "values" in step ? (step.values ?? step.value) : step.value;
      if (value === undefined) throw misapplied(step);
      return at(state, path, step, () => value);
    }
    case "reset":
      if (!isSettled || step.value === undefined) throw misapplied(step);
      return held(step.value);
    case "clear":
      return at(state, path, step, () => null);
    case "add":
      return at(state, path, step, (present) => {
        const now = "now" in step && isSettled ? step.now : undefined;
        if (typeof now === "number") return now;
        if (isSettled || typeof present !== "number" || typeof step.by !== "number")
          throw misapplied(step);
        return present + step.by;
      });
    case "put":
    case "revive": {
      const { id, value } = step;
      return at(state, path, step, (map) => {
        if (!isMembers(map) || typeof id !== "string" || value === undefined)
          throw misapplied(step);
        if (!isSettled && memberOf(map, id) !== undefined) return map;
        return withMember(map, id, held(value));
      });
    }
    case "hide":
    case "drop": {
      const id = path.at(-1);
      return at(state, path.slice(0, -1), step, (map) => {
        if (!isMembers(map) || id === undefined || memberOf(map, id) === undefined)
          throw misapplied(step);
        return withoutMember(map, id);
      });
    }
    case "splice":
      return at(state, path, step, (text) => {
        const { index = 0, delete: gone = 0, insert = "" } = step;
        if (typeof text !== "string" || typeof insert !== "string") throw misapplied(step);
        if (typeof index !== "number" || typeof gone !== "number") throw misapplied(step);
        const start = toUnits(text, index);
        const end = start + toUnits(text.slice(start), gone);
        if (
          scalarCount(text.slice(0, start)) !== index ||
          scalarCount(text.slice(start, end)) !== gone
        )
          throw misapplied(step);
        return text.slice(0, start) + insert + text.slice(end);
      });
    case "insert": {
      const { id, value } = step;
      return at(state, path, step, (list) => {
        if (!isList(list) || typeof id !== "string" || value === undefined) throw misapplied(step);
        if (!isSettled && indexOf(list, id) >= 0) return list;
        return list.toSpliced(target(list, step), 0, { id, value });
      });
    }
    case "move":
      return atElement(state, path, step, (list, index, element) => {
        const rest = list.toSpliced(index, 1);
        return rest.toSpliced(target(rest, step), 0, element);
      });
    case "remove":
      return atElement(state, path, step, (list, index) => list.toSpliced(index, 1));
    case "include":
      return atSet(state, path, step, (set, place, isThere) =>
        isThere ? set : set.toSpliced(place, 0, step.value),
      );
    case "exclude":
      return atSet(state, path, step, (set, place, isThere) => {
        if (!isThere && isSettled) throw misapplied(step);
        return isThere ? set.toSpliced(place, 1) : set;
      });
    case "test":
      if (isSettled) throw misapplied(step);
      return state;
    default:
      throw misapplied(step satisfies { at: string } & Act);
  }
}

type Element = { id: string; value: Json };

/** Changes the list around the element to which a path leads. */
function atElement(
  state: Json,
  path: string[],
  step: Edit | Effect,
  replace: (list: Element[], index: number, element: Element) => Json,
): Json {
  const id = path.at(-1) ?? "";
  return at(state, path.slice(0, -1), step, (list) => {
    if (!isList(list)) throw misapplied(step);
    const index = indexOf(list, id);
    const element = list[index];
    if (element === undefined) throw misapplied(step);
    return replace(list, index, element);
  });
}

/**
 * Changes a set, which is an array in the order of its elements' canonical texts, at the place of
 * an element.
 */
function atSet(
  state: Json,
  path: string[],
  step: (Edit | Effect) & { value: Json },
  replace: (set: Json[], place: number, isThere: boolean) => Json,
): Json {
  return at(state, path, step, (set) => {
    if (!Array.isArray(set) || step.value === undefined) throw misapplied(step);
    const text = canonical(step.value);
    const { index, isThere } = search(set, text);
    return replace(set, index, isThere);
  });
}

/** Where a canonical text is among ordered elements, or would be. Cost O(log n) canonical texts. */
function search(set: Json[], text: string): { index: number; isThere: boolean } {
  let [low, high] = [0, set.length];
  while (low < high) {
    const middle = (low + high) >> 1;
    if (canonical(set[middle] ?? null) < text) low = middle + 1;
    else high = middle;
  }
  return { index: low, isThere: low < set.length && canonical(set[low] ?? null) === text };
}

function indexOf(list: Element[], id: string): number {
  return list.findIndex((element) => element.id === id);
}

/** The index to which a list edit or effect leads. */
function target(list: Element[], step: (Edit | Effect) & Place): number {
  const { after, before, index } = step;
  if (typeof index === "number" && index <= list.length) return index;
  if (after === null) return 0;
  if (before === null || (after === undefined && before === undefined && index === undefined))
    return list.length;
  const beside = indexOf(list, String(after ?? before));
  if (beside < 0) throw misapplied(step);
  return after === undefined ? beside : beside + 1;
}

function isList(value: Json): value is Element[] {
  return Array.isArray(value);
}

/**
 * The id of the element behind which an insert by index goes, `null` at the front; `undefined` for
 * any other edit.
 */
export function afterIndex(state: Json | undefined, edit: Edit): string | null | undefined {
  if (edit.op !== "insert" || typeof edit.index !== "number") return undefined;
  const list = valueAt(state, edit.at);
  if (list === undefined || !isList(list)) return undefined;
  return edit.index === 0 ? null : list[edit.index - 1]?.id;
}

/** The text at a path, if there is one. */
export function textAt(state: Json | undefined, pointer: string): string | undefined {
  const found = valueAt(state, pointer);
  return typeof found === "string" ? found : undefined;
}

/** What is at a path, if anything is. Cost O(path × log members). */
export function valueAt(state: Json | undefined, pointer: string): Json | undefined {
  return tokens(pointer).reduce<Json | undefined>((value, token) => {
    if (Array.isArray(value))
      return (value as Element[]).find((element) => element.id === token)?.value;
    return isMembers(value) ? memberOf(value, token) : undefined;
  }, state);
}

/** The state with another text at a path; as it is where there is none. */
export function withText(state: Json, pointer: string, text: string): Json {
  if (textAt(state, pointer) === undefined) return state;
  return at(state, tokens(pointer), { at: pointer, op: "set", value: text }, () => text);
}

/**
 * Changes what is at a path of object members and elements' ids; only the last step may make a
 * member.
 */
function at(
  state: Json,
  path: string[],
  step: Edit | Effect,
  replace: (present: Json) => Json,
): Json {
  const [token, ...rest] = path;
  if (token === undefined) return replace(state);
  if (Array.isArray(state)) {
    const index = indexOf(state as Element[], token);
    const element = state[index] as Element | undefined;
    if (element === undefined) throw misapplied(step);
    return state.with(index, { ...element, value: at(element.value, rest, step, replace) });
  }
  if (!isMembers(state)) throw misapplied(step);
  const inner = memberOf(state, token);
  if (inner === undefined && rest.length > 0) throw misapplied(step);
  return withMember(state, token, at(inner ?? null, rest, step, replace));
}

export function tokens(pointer: string): string[] {
  return pointer === ""
    ? []
    : pointer
        .slice(1)
        .split("/")
        .map((token) => token.replaceAll("~1", "/").replaceAll("~0", "~"));
}

function misapplied(step: { at: string; op: string }): Misapplied {
  return new Misapplied(`the effect "${step.op}" at ${step.at} does not fit`);
}
