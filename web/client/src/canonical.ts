import type { Json } from "./frame.ts";

/**
 * Canonical JSON (RFC 8785). ECMAScript already writes numbers and strings the way it asks for;
 * members are sorted.
 */
export function canonical(value: Json): string {
  if (Array.isArray(value)) return `[${value.map(canonical).join(",")}]`;
  if (value !== null && typeof value === "object") {
    const members = Object.keys(value)
      .sort()
      .map((name) => `${JSON.stringify(name)}:${canonical(value[name] ?? null)}`);
    return `{${members.join(",")}}`;
  }
  return JSON.stringify(value);
}
