import type { Edit, Settled, Verdict } from "@rendel/client/parts";
import type { Charter, Field, Fields } from "../api.ts";
import { splitLast } from "./pointer.ts";

/** The edit that proposes a lost value again, where there is one. */
export function again(charter: Charter, update: Settled, verdict: Verdict): Edit | undefined {
  const { at, lost } = verdict;
  if (lost === undefined) return undefined;
  const [parent, id] = splitLast(at);
  const place = fieldAt(charter.state, at);
  if (place === "record") return { at: parent, op: "put", id, value: lost };
  if (place === "element") {
    const isMove = update.effects.some((effect) => effect.at === at && effect.op === "move");
    // An id is not taken twice: what was removed comes back as a new element.
    return isMove
      ? { at, op: "move", ...(lost as { after: string | null }) }
      : { at: parent, op: "insert", value: lost };
  }
  if (lost === null) return { at, op: "clear" };
  if (place?.merge === "all" && Array.isArray(lost) && lost[0] !== undefined)
    return { at, op: "set", value: lost[0] };
  return place?.kind === "register" ? { at, op: "set", value: lost } : undefined;
}

/** What a path leads to: a field, a record of a map, or an element of a list. */
function fieldAt(fields: Fields, path: string): Field | "record" | "element" | undefined {
  let inner: Fields | undefined = fields;
  let field: Field | undefined;
  for (const token of path.slice(1).split("/")) {
    if (inner !== undefined) {
      field = inner[splitLast(`/${token}`)[1]];
      inner = undefined;
      if (field === undefined) return undefined;
    } else {
      inner = field?.each ?? {};
    }
  }
  if (inner === undefined) return field;
  return field?.kind === "list" ? "element" : "record";
}
