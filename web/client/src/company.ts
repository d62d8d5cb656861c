import type {
  Effect,
  Facts,
  Hold,
  HoldChange,
  Participant,
  Roster,
  Told,
  Welcome,
} from "./frame.ts";
import { followCarets } from "./presence.ts";

/** Who is in a session with a replica, what they tell of themselves, and what they hold. */
export class Company {
  roster: Participant[] = [];
  /** How many are here in all, if some are not named. */
  count: number | undefined;
  presence = new Map<string, Map<string, Facts>>();
  holds = new Map<string, Hold>();
  #isSelf: (who: string, client: string) => boolean;

  constructor(isSelf: (who: string, client: string) => boolean) {
    this.#isSelf = isSelf;
  }

  /** What a welcome says takes the place of what was known. */
  arrive(frame: Welcome): void {
    this.roster = frame.roster;
    this.count = frame.count;
    this.holds = new Map((frame.holds ?? []).map((hold) => [hold.at, hold]));
    this.presence.clear();
    this.tell(frame.presence ?? {});
  }

  /** Somebody tells something else of themselves, or nothing any more. */
  tell(of: Told<Facts | null>): void {
    for (const [who, told] of Object.entries(of)) this.#tellOf(who, told);
  }

  #tellOf(who: string, told: { [client: string]: Facts | null }): void {
    const here = new Map(this.presence.get(who));
    for (const [client, facts] of Object.entries(told)) {
      const isSelf = this.#isSelf(who, client);
      if (facts === null || isSelf) here.delete(client);
      else here.set(client, facts);
    }
    if (here.size > 0) this.presence.set(who, here);
    else this.presence.delete(who);
  }

  hold(change: HoldChange): void {
    for (const at of change.freed ?? []) this.holds.delete(at);
    for (const hold of change.taken ?? []) this.holds.set(hold.at, hold);
  }

  /** Carets move with their texts. */
  follow(effects: Effect[]): void {
    for (const told of this.presence.values())
      for (const [client, facts] of told) told.set(client, followCarets(facts, effects));
  }

  /** Somebody came, went or changed. */
  change(change: Roster): void {
    const gone = new Set((change.left ?? []).map(({ id }) => id));
    for (const id of gone) this.presence.delete(id);
    const shown = [...(change.joined ?? []), ...(change.changed ?? [])];
    this.count = change.count ?? this.count;
    const kept = this.roster.filter(
      (here) => !gone.has(here.id) && shown.every((one) => one.id !== here.id),
    );
    this.roster = [...kept, ...shown].sort((one, other) => (one.id < other.id ? -1 : 1));
  }
}
