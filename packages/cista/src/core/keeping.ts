import type { Entry } from "./entry.js";
import { momentOfAge } from "./freshness.js";
import { record, type Wiring } from "./wiring.js";

/** Which entries are kept, and until when (rule F8); and when each next needs looking after. */
export class Keeping {
  readonly #wiring: Wiring;

  constructor(wiring: Wiring) {
    this.#wiring = wiring;
  }

  /** After an entry was used, or its occupation or freshness changed. */
  file(entry: Entry): void {
    if (entry.gone) return;
    const { idle, schedule } = this.#wiring;
    const now = this.#wiring.now();
    if (!entry.isIdle) {
      idle.remove(entry);
      schedule.set(entry, nextMoment(entry, now, this.#wiring.environment.visible));
      return;
    }
    entry.usedAt = now;
    schedule.set(entry, releasedAt(entry));
    const surplus = idle.add(entry);
    if (surplus) this.evict(surplus, "over capacity");
  }

  evict(entry: Entry, note?: string): void {
    const { idle, groups, schedule, shelves } = this.#wiring;
    idle.remove(entry);
    schedule.set(entry, Number.POSITIVE_INFINITY);
    if (entry.extra) groups.move(entry, entry.extra.groups, []);
    shelves.remove(entry);
    record(this.#wiring, "evict", entry, note === undefined ? {} : { note });
  }

  /** The extra of an entry was replaced: its labels are filed anew. */
  relabel(entry: Entry, before: readonly string[]): void {
    if (!entry.gone) this.#wiring.groups.move(entry, before, labelsOf(entry));
  }
}

const none: readonly string[] = [];

export function labelsOf(entry: Entry): readonly string[] {
  return entry.extra?.groups ?? none;
}

/** When an idle entry is let go. */
export function releasedAt(entry: Entry): number {
  return entry.usedAt + entry.shelf.settings.retain;
}

export function staleAt(entry: Entry): number {
  return momentOfAge(entry.policy.maxAge, entry.storedAt, entry.initialAge);
}

export function expiredAt(entry: Entry): number {
  return staleAt(entry) + entry.policy.staleWhileRevalidate;
}

/** When what a watched entry shows may change by time alone, or when it is to be asked for. */
function nextMoment(entry: Entry, now: number, visible: boolean): number {
  const { activity } = entry;
  let next = Number.POSITIVE_INFINITY;
  if (!activity || activity.watchers === 0) return next; // a request under way has timers of its own
  const consider = (moment: number) => {
    if (moment > now && moment < next) next = moment;
  };
  if (entry.held !== "none") {
    const stale = staleAt(entry);
    consider(stale);
    consider(stale + entry.policy.staleWhileRevalidate);
    if (activity.failure) consider(stale + entry.policy.staleIfError);
  }
  // Paused while nobody looks; overdue when somebody does again: at once.
  if (visible && activity.askers > 0)
    consider(Math.max(now + 1, activity.askedAt + entry.shelf.settings.revalidateEvery));
  return next;
}
