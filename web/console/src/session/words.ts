import type { Effect, Json, Problem, Settled, Verdict } from "@rendel/client/parts";
import type { Meaning } from "../parts/ui.tsx";
import { isMembers, member } from "./pointer.ts";

/** A value as it reads in a sentence. */
export function shown(value: Json | undefined, most = 60): string {
  const text = value === undefined ? "" : JSON.stringify(value);
  return text.length > most ? `${text.slice(0, most)}…` : text;
}

/** What an effect did, in words. */
export function effectInWords(effect: Effect): string {
  const { at } = effect;
  switch (effect.op) {
    case "set": {
      const played = playedInWords(effect.value);
      if (played !== undefined) return `${at}: ${played}`;
      return effect.values === undefined
        ? `${at} = ${shown(effect.value)}`
        : `${at} = ${shown(effect.values)} side by side`;
    }
    case "show":
      return `${at} shown: ${shown(effect.value)}`;
    case "hide":
      return `${at} hidden`;
    case "add":
      return `${at} ${effect.by < 0 ? "−" : "+"}${Math.abs(effect.by)} → ${shown(effect.now)}`;
    case "put":
      return `${at} put ${effect.id} ${shown(effect.value)}`;
    case "revive":
      return `${at} revived ${effect.id} ${shown(effect.value)}`;
    case "include":
      return `${at} with ${shown(effect.value)}`;
    case "exclude":
      return `${at} without ${shown(effect.value)}`;
    case "insert":
      return `${at} insert ${effect.id.slice(-12)} ${behind(effect.after)} ${shown(effect.value)}`;
    case "move":
      return `${at} moved ${behind(effect.after)}`;
    case "splice":
      return spliceInWords(effect);
    case "remove":
      return `${at} removed`;
    case "reset":
      return "the whole state reset";
    case "clear":
      return `${at} cleared`;
    case "drop":
      return `${at} dropped`;
  }
}

/** What a field that keeps rules of play holds, in words. */
function playedInWords(value: Json | undefined): string | undefined {
  if (value === undefined || !isMembers(value)) return undefined;
  const [by, last] = [member(value, "by"), member(value, "last")];
  if ("gathering" in value && isMembers(by)) {
    const seats = Object.entries(by).map(([seat, who]) => `${seat} ${who ?? "free"}`);
    return `${seats.join(", ")}${value.gathering === true ? ", gathering" : ""}`;
  }
  if ("reversed" in value && "seat" in value)
    return `turn ${shown(value.number)} is ${value.seat === null ? "nobody's" : String(value.seat)}`;
  if ("fired" in value && "due" in value) {
    if (typeof value.due !== "number") return "no time is set";
    return `${typeof value.fired === "number" ? "fired, was due" : "due"} ${clock(value.due)}`;
  }
  if ("running" in value)
    return `${value.running === true ? "runs from" : "stands at"} ${Number(value.position) / 1_000} s`;
  const shares = Object.values(member(value, "entropy") ?? {});
  if ("draws" in value && shares.length > 0) {
    const revealed = shares.filter((share) => isMembers(share) && share.value !== null).length;
    return `${revealed} of ${shares.length} revealed what they add to the next draw`;
  }
  if ("draws" in value) {
    if (!isMembers(last)) return "the next draw is bound";
    return last.kind === "roll"
      ? `rolled ${shown(last.values)} of ${shown(last.sides)}`
      : `${String(last.of)} shuffled`;
  }
  return undefined;
}

function behind(after: string | null): string {
  return after === null ? "first" : `after ${after.slice(-12)}`;
}

function spliceInWords({ at, index, delete: gone, insert }: Effect & { op: "splice" }): string {
  if (gone === 0 && insert === "") return `${at} as it was`;
  const came = insert === "" ? "" : ` with ${shown(insert)}`;
  const went = gone === 0 ? "" : insert === "" ? ` without ${shown(gone)}` : ` for ${shown(gone)}`;
  return `${at}${came}${went} at ${shown(index)}`;
}

export function updateInWords(update: Settled): string {
  return update.effects.length === 0 ? "no effect" : update.effects.map(effectInWords).join(" · ");
}

export function meaningOf(verdict: Verdict["verdict"]): Meaning {
  return {
    applied: "leaf",
    merged: "slate",
    rebased: "slate",
    overrode: "amber",
    skipped: "slate",
    dropped: "brick",
  }[verdict] as Meaning;
}

/** The last part of a problem's type. */
export function problemName(problem: Problem): string {
  return problem.type.split(":").at(-1) ?? problem.type;
}

export function clock(ms: number): string {
  return new Date(ms).toLocaleTimeString("en-GB");
}

/** A number with its noun. */
export function counted(count: number, noun: string): string {
  return `${count.toLocaleString("en")} ${noun}${count === 1 ? "" : "s"}`;
}
