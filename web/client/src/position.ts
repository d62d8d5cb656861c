/**
 * Positions in text count Unicode scalar values; strings here count UTF-16 code units. These turn
 * one into the other.
 */

/**
 * The scalar values before a code unit of the text. One in the middle of a pair counts as before
 * the pair.
 */
export function toScalars(text: string, units: number): number {
  let count = 0;
  for (let at = 0; at < units && at < text.length; count++) {
    at += size(text, at);
    if (at > units) return count;
  }
  return count;
}

/** The code units before a scalar value of the text. */
export function toUnits(text: string, scalars: number): number {
  let at = 0;
  for (let count = 0; count < scalars && at < text.length; count++) at += size(text, at);
  return at;
}

/** How many scalar values a text has. */
export function scalarCount(text: string): number {
  return toScalars(text, text.length);
}

function size(text: string, at: number): number {
  return (text.codePointAt(at) ?? 0) > 0xffff ? 2 : 1;
}

/**
 * The smallest splice from one text to another, in scalar values; `undefined` where they are the
 * same. Where it could be at several places, as in a run of the same letter, it is the one that
 * ends at `caret`, in code units of the later text.
 */
export function spliceBetween(
  before: string,
  after: string,
  caret: number = after.length,
): { index: number; delete: number; insert: string } | undefined {
  if (before === after) return undefined;
  const [old, now] = [Array.from(before), Array.from(after)];
  const shorter = Math.min(old.length, now.length);
  const behind = now.length - toScalars(after, caret);
  let tail = 0;
  while (tail < Math.min(behind, shorter) && old.at(-1 - tail) === now.at(-1 - tail)) tail++;
  let head = 0;
  while (head < shorter - tail && old[head] === now[head]) head++;
  while (tail < shorter - head && old.at(-1 - tail) === now.at(-1 - tail)) tail++;
  return {
    index: head,
    delete: old.length - head - tail,
    insert: now.slice(head, now.length - tail).join(""),
  };
}
