import type { Json } from "@rendel/client/parts";

/** One token as it stands in a JSON Pointer. */
export function pointerToken(token: string): string {
  return token.replaceAll("~", "~0").replaceAll("/", "~1");
}

/** A path without its last token, and that token unescaped. */
export function splitLast(path: string): [string, string] {
  const at = path.lastIndexOf("/");
  const last = path
    .slice(at + 1)
    .replaceAll("~1", "/")
    .replaceAll("~0", "~");
  return [path.slice(0, at), last];
}

export function isMembers(value: Json): value is { [name: string]: Json } {
  return value !== null && typeof value === "object" && !Array.isArray(value);
}

export function member(value: Json, name: string): Json {
  return isMembers(value) ? (value[name] ?? null) : null;
}
