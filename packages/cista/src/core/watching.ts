import type { Asking } from "./asking.js";
import type { Entry } from "./entry.js";
import { forwardStatus, hitStatus } from "./journal.js";
import { expiredAt, type Keeping, labelsOf, releasedAt, staleAt } from "./keeping.js";
import type { Cause, Trigger } from "./source.js";
import { record, type Wiring } from "./wiring.js";

/** What watching makes the cache do: who attaches and leaves, what time and the page do to what is watched. */
export class Watching {
  readonly #wiring: Wiring;
  readonly #keeping: Keeping;
  readonly #asking: Asking;
  readonly #watched = new Set<Entry>();
  /** Those that somebody has left: looked at again one macrotask later (rule R3). */
  readonly #left = new Set<Entry>();
  #leaveTimer: unknown;

  constructor(wiring: Wiring, keeping: Keeping, asking: Asking) {
    this.#wiring = wiring;
    this.#keeping = keeping;
    this.#asking = asking;
  }

  /** @param asks false for a view that starts nothing by itself */
  attach(entry: Entry, asks: boolean): void {
    const activity = entry.active();
    const now = this.#wiring.now();
    const first = activity.watchers === 0;
    if (first) {
      activity.passed = activity.cameStale || entry.held === "none" ? "expired" : standingNow(entry, now);
      this.#watched.add(entry);
      this.#wiring.notifier.touch(entry);
    }
    activity.watchers++;
    if (asks) activity.askers++;
    this.#recordAttach(entry, asks, now);
    const asksNow = asks && !activity.request && wantsRequest(entry, now);
    if (asksNow) this.#asking.start(entry, "attach");
    else if (first || (asks && activity.askers === 1)) this.#keeping.file(entry);
  }

  detach(entry: Entry, asked: boolean): void {
    const { activity } = entry;
    if (!activity) return;
    activity.watchers--;
    if (asked) activity.askers--;
    record(this.#wiring, "detach", entry);
    if (activity.watchers === 0) this.leave(entry);
    else if (asked && activity.askers === 0) this.#keeping.file(entry);
  }

  /** The single step by which an entry is left: one macrotask from now, so that what comes back in one go loses nothing. */
  leave(entry: Entry): void {
    this.#left.add(entry);
    this.#leaveTimer ??= this.#wiring.clock.setTimer(() => this.#afterLeaving(), 0);
  }

  #afterLeaving(): void {
    this.#leaveTimer = undefined;
    const left = [...this.#left];
    this.#left.clear();
    this.#wiring.notifier.turn(() => {
      for (const entry of left) this.#settleLeft(entry);
    });
  }

  #settleLeft(entry: Entry): void {
    const { activity } = entry;
    if (!activity || activity.watchers > 0 || activity.readers > 0) return;
    this.#watched.delete(entry);
    activity.shown = false;
    activity.cameStale = false;
    if (activity.request && !activity.pinned) this.#asking.giveUp(entry, "nobody waits for it any more");
    if (activity.request) return; // prefetched, or somebody waits for good: it runs on
    if (entry.policy.noStore && entry.held !== "none") this.#drop(entry); // rule S2, RFC 9111 §5.2.2.5
    if (!activity.isBusy) {
      entry.activity = undefined;
      entry.reading = undefined;
    }
    this.#keeping.file(entry);
  }

  #drop(entry: Entry): void {
    const before = labelsOf(entry);
    entry.forget();
    this.#keeping.relabel(entry, before);
  }

  // ── Time ───────────────────────────────────────────────────────────────────

  /** The moments of these entries have come. */
  due(entries: readonly Entry[]): void {
    this.#wiring.notifier.turn(() => {
      const now = this.#wiring.now();
      for (const entry of entries) {
        if (entry.gone) continue;
        if (!entry.isIdle) this.#age(entry, now);
        else if (releasedAt(entry) <= now) this.#keeping.evict(entry, "unused for as long as it is retained");
        else this.#wiring.schedule.set(entry, releasedAt(entry)); // used since
      }
    });
  }

  #age(entry: Entry, now: number): void {
    const { activity } = entry;
    if (!activity || activity.watchers === 0) return;
    this.#wiring.notifier.touch(entry);
    const standing = entry.held === "none" ? "expired" : standingNow(entry, now);
    if (standing !== "fresh" && activity.passed === "fresh") record(this.#wiring, "stale", entry);
    if (standing === "expired" && activity.passed !== "expired") {
      record(this.#wiring, "expire", entry);
      this.#ask(entry, "expired");
    }
    activity.passed = standing;
    if (now >= activity.askedAt + entry.shelf.settings.revalidateEvery) this.#ask(entry, "interval");
    this.#keeping.file(entry);
  }

  /** Rule F3: by itself the cache asks only while somebody looks; else when somebody does again. */
  #ask(entry: Entry, cause: Cause): void {
    const activity = entry.active();
    if (activity.askers === 0 || activity.request) return;
    if (this.#wiring.environment.visible) this.#asking.start(entry, cause);
    else if (cause === "expired") activity.owed = true;
  }

  // ── The page ───────────────────────────────────────────────────────────────

  /** The page is looked at again, or the network is back. */
  wake(trigger: Exclude<Trigger, "attach">): void {
    this.#wiring.notifier.turn(() => {
      const now = this.#wiring.now();
      this.#asking.hurry();
      for (const entry of [...this.#watched]) this.#wakeOne(entry, trigger, now);
    });
  }

  #wakeOne(entry: Entry, trigger: Exclude<Trigger, "attach">, now: number): void {
    const { activity } = entry;
    if (!activity || activity.request || activity.askers === 0) return;
    const wanted = entry.shelf.settings.triggers.includes(trigger) && !entry.isFresh(now);
    if (wanted) this.#asking.start(entry, trigger);
    else if (activity.owed && trigger === "visible") this.#asking.start(entry, "expired");
    activity.owed = false;
    this.#keeping.file(entry);
  }

  stop(): void {
    if (this.#leaveTimer !== undefined) this.#wiring.clock.clearTimer(this.#leaveTimer);
    this.#watched.clear();
    this.#left.clear();
  }

  #recordAttach(entry: Entry, asks: boolean, now: number): void {
    if (!this.#wiring.recorder.listening) return;
    record(this.#wiring, "attach", entry, { cause: "attach", cacheStatus: attachStatus(entry, asks, now) });
  }
}

/** Whether a newcomer that may ask starts a request (rule F2). A failure is no reason to be content. */
export function wantsRequest(entry: Entry, now: number): boolean {
  if (entry.held === "none") return true;
  const standing = entry.standing(now);
  if (standing === "stale") return entry.shelf.settings.triggers.includes("attach");
  return standing !== "fresh";
}

/** By age alone: an invalidated one ages like any other. */
function standingNow(entry: Entry, now: number): "fresh" | "stale" | "expired" {
  if (now < staleAt(entry)) return "fresh";
  return now < expiredAt(entry) ? "stale" : "expired";
}

function attachStatus(entry: Entry, asks: boolean, now: number): string {
  const usable = entry.held !== "none" && entry.isUsable(now);
  if (usable) return hitStatus(staleAt(entry) - now);
  if (!asks) return forwardStatus("bypass", { detail: "starts-nothing" });
  return forwardStatus(entry.held === "none" ? "miss" : "stale", { collapsed: entry.request !== undefined });
}
