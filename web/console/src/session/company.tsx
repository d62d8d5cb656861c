import type { Facts, Hold, Participant } from "@rendel/client/parts";
import { caretOf, pointOf } from "@rendel/client/parts";
import { createContext, useContext } from "react";
import type { Charter } from "../api.ts";
import { Dot } from "../parts/ui.tsx";
import type { Seat } from "./use-participant.ts";

/**
 * Those who are here with the participant that the editors below speak for, and how that one tells
 * of itself.
 */
export type Company = {
  seat: Seat;
  session: string;
  charter: Charter;
};

export const CompanyContext = createContext<Company | undefined>(undefined);

/** What somebody tells of themselves in each of their tabs, but for this one. */
export function tabsOf(seat: Seat, one: Participant): [client: string, facts: Facts][] {
  return [...(seat.presence.get(one.id) ?? [])];
}

/** What somebody is doing in all of their tabs, in words. */
export function doingInTabs(seat: Seat, one: Participant, charter: Charter | undefined): string {
  const words = tabsOf(seat, one).map(([, facts]) => doing(facts, charter));
  return words.filter((word) => word !== "").join(" · ");
}

/** What somebody is doing, in words. */
export function doing(facts: Facts | undefined, charter: Charter | undefined): string {
  const words = Object.entries(facts ?? {}).map(([name, value]) => {
    const caret = caretOf(value);
    if (caret !== undefined) return `in ${caret.at}`;
    const point = pointOf(value);
    const unit = charter?.surfaces?.[charter.presence?.fields?.[name]?.surface ?? ""]?.unit ?? "";
    if (point !== undefined)
      return `at ${point.x.toFixed(1)}, ${point.y.toFixed(1)} ${unit}`.trim();
    if (value === true) return name;
    if (
      typeof value === "string" &&
      Object.values(facts ?? {}).some((other) => caretOf(other)?.at === value)
    )
      return "";
    if (Array.isArray(value)) return `has ${value.join(", ")}`;
    return typeof value === "string" ? `${name} ${value}` : `${name} ${JSON.stringify(value)}`;
  });
  return words.filter((word) => word !== "").join(" · ");
}

/** The hold that covers a path, by somebody else. */
export function holdOver(
  holds: ReadonlyMap<string, Hold>,
  path: string,
  you: string | undefined,
): Hold | undefined {
  for (const hold of holds.values()) {
    const covers = path === hold.at || path.startsWith(`${hold.at}/`);
    if (covers && hold.by !== you) return hold;
  }
  return undefined;
}

/** The fact of the charter that is a place in the text at a path. */
export function caretFact(charter: Charter, path: string): string | undefined {
  const fits = (pattern: string) => {
    const [parts, tokens] = [pattern.split("/"), path.split("/")];
    return (
      parts.length === tokens.length &&
      parts.every((part, at) => part === "*" || part === tokens[at])
    );
  };
  const facts = Object.entries(charter.presence?.fields ?? {});
  return facts.find(([, fact]) => fact.anchor !== undefined && fits(fact.anchor))?.[0];
}

/** Who holds this field or what is around it, as a small mark beside its name. */
export function PlaceMark({ path }: { path: string }) {
  const company = useContext(CompanyContext);
  if (company === undefined) return null;
  const { seat } = company;
  const hold = holdOver(seat.holds, path, seat.you?.id);
  // What is around it is marked once, where that stands.
  const isHeld = hold !== undefined && hold.at === path;
  const holder = seat.roster.find((one) => one.id === hold?.by);
  return (
    <>
      {seat.own.has(path) && <OwnMark />}
      {isHeld && <PersonMark person={holder} name={hold.by} says="holds it" />}
    </>
  );
}

/** Not all of this participant's role see the place. */
function OwnMark() {
  return (
    <span
      className="inline-flex rounded-small bg-amber-wash px-1.5 py-px font-sans text-xs whitespace-nowrap text-amber"
      title="Shown to some alone: not all of this role see it"
    >
      only some see it
    </span>
  );
}

/** A participant in a few words. */
export function PersonMark({
  person,
  name,
  says,
}: {
  person: Participant | undefined;
  name: string;
  says?: string;
}) {
  return (
    <span className="inline-flex max-w-full items-center gap-1.5 rounded-small bg-sunk px-1.5 py-px text-xs text-soft">
      <Dot hue={person?.hue ?? 90} />
      <span className="truncate">
        <span className="font-medium text-ink">{person?.name ?? name}</span>
        {says !== undefined && ` ${says}`}
      </span>
    </span>
  );
}
