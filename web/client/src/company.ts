import type { Hold, HoldChange, Participant, Roster, Welcome } from "./frame.ts";
import { newTelling, type Telling } from "./telling.ts";

/** Who is in a session with a replica, what they tell of themselves, and what they hold. */
export class Company {
  roster: Participant[] = [];
  /** How many are here in all, if some are not named. */
  count: number | undefined;
  holds = new Map<string, Hold>();
  /** What others tell of themselves, where a page shows it. */
  readonly telling: Telling | undefined;

  constructor(isSelf: (who: string, client: string) => boolean) {
    this.telling = newTelling(isSelf);
  }

  /** What a welcome says takes the place of what was known. */
  arrive(frame: Welcome): void {
    this.roster = frame.roster;
    this.count = frame.count;
    this.holds = new Map((frame.holds ?? []).map((hold) => [hold.at, hold]));
    this.telling?.clear();
    this.telling?.tell(frame.presence ?? {});
  }

  hold(change: HoldChange): void {
    for (const at of change.freed ?? []) this.holds.delete(at);
    for (const hold of change.taken ?? []) this.holds.set(hold.at, hold);
  }

  /** Somebody came, went or changed. */
  change(change: Roster): void {
    const gone = new Set((change.left ?? []).map(({ id }) => id));
    for (const id of gone) this.telling?.forget(id);
    const shown = [...(change.joined ?? []), ...(change.changed ?? [])];
    this.count = change.count ?? this.count;
    const kept = this.roster.filter(
      (here) => !gone.has(here.id) && shown.every((one) => one.id !== here.id),
    );
    this.roster = [...kept, ...shown].sort((one, other) => (one.id < other.id ? -1 : 1));
  }
}
