/** Takes over values that another tab has learned. Rule B1. */
import type { Cache } from "../../api/contract.js";
import type { PlainSelector } from "../../api/seams.js";
import type { StoredEntry } from "../../api/stored.js";
import { supersede } from "../../kernel/asking.js";
import { changeHeld, getOrCreateEntry, noteUse } from "../../kernel/keeping.js";
import { outcomeOf } from "../../kernel/waiting.js";
import { batch } from "../../state/batches.js";
import { type Core, coreOf, nowOf, record } from "../../state/core.js";
import type { Entry } from "../../state/entry.js";
import { tellChange } from "../changing/change-listeners.js";
import { forget, invalidate } from "../changing/changing.js";
import { selected } from "../changing/selector.js";
import { checkedNow } from "./restoring.js";
import { detailsOf, isMadeOfOthers, staysHere } from "./snapshot.js";

/**
 * Holds a value that another tab has learned, in place of the older one that is held here (rule B1).
 * @param isKept the request under way goes on, for a value that is newer still
 * @returns false where no source of that name is in use here, or the entry is none of its
 * @internal
 */
export function adoptEntry(cache: Cache, stored: StoredEntry, since: number, from: string, isKept: boolean): boolean {
  const core = coreOf(cache);
  const shelf = core.shelves.named(stored.source);
  if (core.disposed || !shelf || stored.noStore) return false;
  let entry: Entry;
  try {
    entry = getOrCreateEntry(core, shelf.source, stored.params);
  } catch {
    return false; // params that can make no key
  }
  const checked = stored.kind === "missing" ? { value: undefined } : checkedNow(entry, stored.value);
  if (!checked) return false;
  batch(core, () => {
    const groups = shelf.groupsWithOwn(stored.params, stored.groups ?? entry.answeredGroups);
    const details = { ...detailsOf(stored), groups, age: stored.age + since };
    const version = ++core.version;
    changeHeld(entry, () => entry.hold(stored.kind, checked.value, details, version, nowOf(core)));
    entry.activity?.layers?.removeConfirmed(version); // rule W2: it is newer than what came of any write that has ended
    entry.links?.dropDependencies();
    if (!isKept) supersede(entry, outcomeOf(entry), "another tab has brought it");
    if (entry.activity) entry.activity.requestedAt = nowOf(core);
    record("adopt", entry, from);
    entry.links?.tellDependents();
    noteUse(entry);
  });
  return true;
}

/**
 * Another tab has told a newer value of a source that is not used yet here: what waits for that source is not to be trusted.
 * @internal
 */
export function doubtPending(cache: Cache, key: string): void {
  const core = coreOf(cache);
  batch(core, () => core.pendingRestores?.change("invalidate", [{ key }], 0));
}

/**
 * The age of the value that is held here, or waits for its source, in milliseconds.
 * @internal
 */
export function ageOf(cache: Cache, key: string): number | undefined {
  const core = coreOf(cache);
  const entry = core.shelves.byKey.get(key);
  if (entry && entry.held !== "none") return entry.age(nowOf(core));
  return core.pendingRestores?.ageOf(key);
}

/**
 * Whether a value that another tab has told is for the user of this tab (rule F9).
 * @internal
 */
export function isForHere(cache: Cache, stored: StoredEntry): boolean {
  const { shelves, options } = coreOf(cache);
  const { varies, params } = stored;
  if (isMadeOfOthers(stored)) return false; // each tab makes its own
  if (!varies) return true;
  const { fits } = shelves.named(stored.source)?.source.definition ?? {};
  return !staysHere(stored) && (fits?.(varies, params, options.context) ?? true) === true;
}

/** The keys of the held values that are for another user than the present one (rule F9). */
export function foreignKeys(cache: Cache): string[] {
  const entries = [...coreOf(cache).shelves.byKey.values()];
  return entries.filter((entry) => entry.held !== "none" && !entry.fits).map(({ key }) => key);
}

/**
 * Repeats here a change that a program made in another tab (rule B3), and does not tell it to other tabs.
 * @param isOlder whether the value that is held here under a key is older than the change
 * @param age how long ago it was made, in milliseconds
 * @returns the keys that it hit
 */
export function adoptChange(
  cache: Cache,
  kind: "invalidate" | "delete",
  selectors: readonly PlainSelector[],
  isOlder: (key: string) => boolean,
  age = 0,
): string[] {
  const core = coreOf(cache);
  if (core.disposed) return [];
  const entries = new Set(selectors.flatMap((selector) => entriesFor(core, selector)));
  const older = [...entries].filter(({ key }) => isOlder(key));
  batch(core, () => {
    tellChange(core, { kind, selectors, entries: older, isHeard: true, age });
    for (const entry of older) {
      if (kind === "delete") forget(entry);
      else invalidate(entry);
    }
  });
  return older.map(({ key }) => key);
}

function entriesFor(core: Core, selector: PlainSelector): Entry[] {
  if (selector === "all" || !("of" in selector)) return selected(core, selector);
  const source = core.shelves.named(selector.of)?.source;
  if (!source) return [];
  return selected(core, "params" in selector ? { source, params: selector.params as never } : source);
}
