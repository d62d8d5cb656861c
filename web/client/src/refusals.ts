import type { Edit, Json, Problem, Welcome } from "./frame.ts";

/** Whether a refusal says that the service does not know the client any more. */
export function isForgotten(n: number, problem: Problem): boolean {
  const next = problem.next_n;
  return problem.type === "urn:rendel:problem:forgotten" && typeof next === "number" && next < n;
}

/** Bytes of a `propose` frame around its edits. */
const FRAME_AROUND = 160;

/** Levels of a value, and what stands for half of a character in JSON. */
const DEEPEST_VALUE = 48;
const HALF = /(?<!\\)(?:\\\\)*\\ud[89a-f][0-9a-f]{2}/;

/** The refusal of a proposal that the session would not take for its size, or could not read. */
export function tooLarge(
  limits: Welcome["limits"],
  edits: Edit[],
  more: { gesture?: string; note?: string },
): Problem | undefined {
  const refusal = (limit: string, detail: string): Problem => ({
    type: "urn:rendel:problem:too-large",
    title: "Too large",
    status: 413,
    detail,
    limit,
  });
  if (edits.length > limits.edits)
    return refusal(
      "edits",
      `A proposal has at most ${limits.edits} edits, not ${edits.length}. Propose several.`,
    );
  const text = JSON.stringify([edits, more]);
  if (HALF.test(text)) {
    const detail = "A string holds half of a character (a lone surrogate).";
    return {
      type: "urn:rendel:problem:wrong-type",
      title: "Wrong type of value",
      status: 422,
      detail,
    };
  }
  if (edits.some((edit) => Object.values(edit).some((value) => isDeeper(value, DEEPEST_VALUE)))) {
    const detail = `A value may be nested at most ${DEEPEST_VALUE} levels deep.`;
    return { type: "urn:rendel:problem:too-deep", title: "Nested too deeply", status: 400, detail };
  }
  // A code unit is at most three bytes of UTF-8.
  if (text.length * 3 + FRAME_AROUND <= limits.frame) return undefined;
  const bytes = new TextEncoder().encode(text).length + FRAME_AROUND;
  if (bytes <= limits.frame) return undefined;
  return refusal(
    "frame",
    `A proposal has at most ${limits.frame} bytes, not ${bytes}. Propose several.`,
  );
}

function isDeeper(value: Json | undefined, levels: number): boolean {
  if (typeof value !== "object" || value === null) return false;
  return levels === 0 || Object.values(value).some((inner) => isDeeper(inner, levels - 1));
}
