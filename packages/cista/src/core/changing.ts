import type { AnswerDetails } from "./answer.js";
import { type Asking, outcomeOf } from "./asking.js";
import type { Entry } from "./entry.js";
import { CistaError } from "./failure.js";
import { type Keeping, labelsOf } from "./keeping.js";
import type { Watching } from "./watching.js";
import { record, type Wiring } from "./wiring.js";

/** Changes of what is held that the program makes itself: put, patch, invalidate, delete. Each within one turn. */
export class Changing {
  readonly #wiring: Wiring;
  readonly #keeping: Keeping;
  readonly #asking: Asking;
  readonly #watching: Watching;

  constructor(wiring: Wiring, keeping: Keeping, asking: Asking, watching: Watching) {
    this.#wiring = wiring;
    this.#keeping = keeping;
    this.#asking = asking;
    this.#watching = watching;
  }

  /** @throws CistaError code "value" for `undefined`; what the definition's `groups` or `share` throws */
  put(entry: Entry, value: unknown, details: AnswerDetails = {}): void {
    if (value === undefined) {
      throw new CistaError(
        "value",
        `A value was expected to put under ${entry.key}, but it is undefined. Put null for "nothing", or delete the entry.`,
      );
    }
    this.#wiring.notifier.turn(() => {
      const before = labelsOf(entry);
      const own = entry.shelf.source.definition.groups?.(value, entry.params) ?? [];
      const groups = [...new Set([...(details.groups ?? []), ...own])];
      entry.hold("value", value, { ...details, groups }, this.#wiring.nextVersion(), this.#wiring.now());
      this.#changed(entry, before, "a value was put");
    });
  }

  /** The value stays as old as it was, and as trusted: a request that was under way is begun anew if it was not. */
  patch(entry: Entry, change: (value: any) => unknown): boolean {
    if (entry.held !== "value") return false;
    const value = change(entry.value);
    if (value === undefined) {
      throw new CistaError(
        "value",
        `The change of ${entry.key} returned undefined. Return the new value: a patch changes nothing in place.`,
      );
    }
    this.#wiring.notifier.turn(() => {
      const before = labelsOf(entry);
      entry.replace(value, this.#wiring.nextVersion(), this.#wiring.now());
      if (entry.isInvalidated) this.#wiring.nextVersion();
      this.#changed(entry, before, "the value was patched");
      if (entry.isInvalidated) this.#askWatched(entry, "invalidated");
    });
    return true;
  }

  #changed(entry: Entry, labelsBefore: readonly string[], note: string): void {
    this.#keeping.relabel(entry, labelsBefore);
    this.#asking.supersede(entry, outcomeOf(entry), note);
    record(this.#wiring, "put", entry, { note });
    this.#wiring.notifier.touch(entry);
    this.#keeping.file(entry);
    if (entry.watchers === 0 && entry.policy.noStore) this.#watching.leave(entry);
  }

  /** RFC 9111 §4.4. Says whether there was anything to invalidate. */
  invalidate(entry: Entry): boolean {
    if (entry.held === "none" && !entry.isAsking) return false;
    entry.invalidatedAt = this.#wiring.nextVersion();
    record(this.#wiring, "invalidate", entry);
    this.#wiring.notifier.touch(entry);
    this.#askWatched(entry, "invalidated");
    return true;
  }

  #askWatched(entry: Entry, cause: "invalidated" | "attach"): void {
    const { activity } = entry;
    if (!activity) return;
    if (activity.request) activity.request.hurry();
    else if (activity.askers > 0) this.#asking.start(entry, cause);
  }

  /** Forgets what is held; the entry itself goes too where nobody watches it or waits for it. */
  delete(entry: Entry): void {
    const before = labelsOf(entry);
    entry.forget();
    this.#keeping.relabel(entry, before);
    this.#asking.supersede(entry, undefined, "the entry was deleted");
    record(this.#wiring, "evict", entry, { note: "deleted" });
    this.#wiring.notifier.touch(entry);
    const { activity } = entry;
    if (activity && (activity.askers > 0 || activity.waiters || activity.nextWaiters)) {
      this.#asking.start(entry, "attach");
    } else if (entry.watchers === 0) {
      this.#keeping.evict(entry, "deleted");
    }
  }
}
