import { canonical } from "./canonical.ts";
import type { Edit, Effect, Json } from "./frame.ts";

type Members = { [name: string]: Json };

/** Thrown for an effect that does not fit: the replica has diverged and needs a snapshot. */
export class Misapplied extends Error {}

/**
 * The state after a settled effect. The given state stays as it is; what did not change is shared with it, so that a view
 * can tell by identity what to draw again.
 */
export function applyEffect(state: Json, effect: Effect): Json {
  return change(state, effect, true);
}

/** The state after an own edit that has no answer yet, as far as that can be foreseen; else the state as it is. */
export function applyEdit(state: Json, edit: Edit): Json {
  try {
    return change(state, edit, false);
  } catch (error) {
    if (error instanceof Misapplied) return state;
    throw error;
  }
}

function change(state: Json, step: Edit, isSettled: boolean): Json {
  const path = tokens(step.at);
  switch (step.op) {
    case "set": {
      const value = step.values ?? step.value;
      if (value === undefined) throw misapplied(step, "no value");
      return at(state, path, step, () => value);
    }
    case "clear":
      return at(state, path, step, () => null);
    case "add":
      return at(state, path, step, (present) => {
        if (isSettled) {
          if (typeof step.now !== "number") throw misapplied(step, "no number");
          return step.now;
        }
        if (typeof present !== "number" || typeof step.by !== "number") throw misapplied(step, "no number");
        return present + step.by;
      });
    case "put":
      return at(state, path, step, (map) => {
        if (!isMembers(map) || typeof step.id !== "string" || step.value === undefined)
          throw misapplied(step, "no map");
        if (!isSettled && Object.hasOwn(map, step.id)) return map;
        return { ...map, [step.id]: step.value };
      });
    case "drop": {
      const id = path.at(-1);
      return at(state, path.slice(0, -1), step, (map) => {
        if (!isMembers(map) || id === undefined || !Object.hasOwn(map, id)) throw misapplied(step, "no record");
        const { [id]: _dropped, ...rest } = map;
        return rest;
      });
    }
    case "insert":
    case "remove":
      return at(state, path, step, (set) => changeSet(set, step, isSettled));
    case "test":
      if (!isSettled) return state;
      throw misapplied(step, "an operation that this client does not know");
    default:
      throw misapplied(step, "an operation that this client does not know");
  }
}

/** A set is an array in the order of its elements' canonical texts. */
function changeSet(set: Json, step: Edit, isSettled: boolean): Json {
  const { value } = step;
  if (!Array.isArray(set) || value === undefined) throw misapplied(step, "no set");
  const text = canonical(value);
  const index = set.findIndex((element) => canonical(element) >= text);
  const place = index < 0 ? set.length : index;
  const isThere = index >= 0 && canonical(set[index] ?? null) === text;
  if (step.op === "insert") return isThere ? set : set.toSpliced(place, 0, value);
  if (isThere) return set.toSpliced(place, 1);
  if (isSettled) throw misapplied(step, "no such element");
  return set;
}

/** Changes what is at a path of object members; only the last step may make one. */
function at(state: Json, path: string[], step: Edit, replace: (present: Json) => Json): Json {
  const [token, ...rest] = path;
  if (token === undefined) return replace(state);
  if (!isMembers(state)) throw misapplied(step, "nothing there");
  const inner = Object.hasOwn(state, token) ? state[token] : undefined;
  if (inner === undefined && rest.length > 0) throw misapplied(step, "nothing there");
  return { ...state, [token]: at(inner ?? null, rest, step, replace) };
}

function isMembers(value: Json): value is Members {
  return value !== null && typeof value === "object" && !Array.isArray(value);
}

function tokens(pointer: string): string[] {
  return pointer === ""
    ? []
    : pointer
        .slice(1)
        .split("/")
        .map((token) => token.replaceAll("~1", "/").replaceAll("~0", "~"));
}

function misapplied(step: Edit, why: string): Misapplied {
  return new Misapplied(`the effect "${step.op}" at ${step.at} does not fit: ${why}`);
}
