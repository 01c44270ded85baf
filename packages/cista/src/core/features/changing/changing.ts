/** Changes that a program makes: put, patch, invalidate, delete; and a newer definition of a source. Rules R2, F5. */
import type { AnswerDetails } from "../../api/answer.js";
import type { Cache, Selector } from "../../api/contract.js";
import { CistaError } from "../../api/failure.js";
import type { Source } from "../../api/source-contract.js";
import { requestIfWatched, restartRequest, startRequest, supersede } from "../../kernel/asking.js";
import { changeHeld, evict, noteUse } from "../../kernel/keeping.js";
import { notesNow } from "../../kernel/users.js";
import { outcomeOf } from "../../kernel/waiting.js";
import { batch, markDirty, notifySoon, scheduleRelease } from "../../state/batches.js";
import { assertNotDisposed, type Core, coreOf, nowOf, record } from "../../state/core.js";
import type { Entry } from "../../state/entry.js";
import { composingOf } from "../../state/links.js";
import type { Shelf } from "../../state/shelf.js";
import { tellChange } from "./change-listeners.js";
import { selected } from "./selector.js";

/**
 * Holds a value that the program gives.
 * @throws CistaError code "invalid-value" for `undefined`; errors of the definition's `groups` or `share`
 */
export function put(entry: Entry, value: unknown, details: AnswerDetails = {}): void {
  refuseUndefined(
    value,
    DEVELOPMENT &&
      `A value was expected to put under ${entry.key}, but it is undefined. Put null for "nothing", or delete the entry.`,
  );
  const { core } = entry.shelf;
  batch(core, () => {
    const varies = notesNow(core, entry.shelf.source, entry.params, entry.extra?.varies);
    const groups = entry.groupsWith(details.groups ?? entry.answeredGroups, value);
    const all = varies ? { varies, ...details, groups } : { ...details, groups };
    // A value that the server keeps from being stored is not stored either where a program puts it.
    const kept = entry.held !== "none" && entry.noStore ? { noStore: true, ...all } : all;
    const version = ++core.version;
    changeHeld(entry, () => entry.hold("value", value, kept, version, nowOf(core)));
    entry.activity?.layers?.removeConfirmed(version); // rule W2: it is newer than what came of any write that has ended
    composingOf(entry.shelf.source)?.put(entry);
    supersede(entry, outcomeOf(entry), "a value was put");
    afterPut(entry, "a value was put");
  });
}

/**
 * The value stays as old as it was, and as trusted; a try that was under way may not know of the change, and is begun anew.
 * @param varies for whom the change is, where it is not for all
 */
export function patch(entry: Entry, change: (value: any) => unknown, varies?: AnswerDetails["varies"]): boolean {
  if (entry.held !== "value") return false;
  const before = entry.value;
  const value = change(before);
  if (entry.value !== before) {
    throw new CistaError(
      "invalid-change",
      DEVELOPMENT &&
        `The change of ${entry.key} has changed ${entry.key} itself, which would be lost. Make the new value of the given one alone.`,
    );
  }
  refuseUndefined(
    value,
    DEVELOPMENT &&
      `The change of ${entry.key} returned undefined. Return the new value: a patch changes nothing in place.`,
  );
  const { core } = entry.shelf;
  batch(core, () => {
    changeHeld(entry, () => entry.replace(value, nowOf(core), varies));
    restartRequest(entry, "the value was patched");
    afterPut(entry, "the value was patched");
    if (entry.isInvalidated) requestIfWatched(entry);
  });
  return true;
}

type Place = readonly [source: Source<any, any>, params: unknown];

/** Patches one entry by what another holds, a list by a page: from then on it is for those alone whom both are for (rule F9). */
export function patchByPart(cache: Cache, whole: Place, part: Place, change: (value: any) => unknown): boolean {
  const { shelves } = coreOf(cache);
  const entry = shelves.find(...whole);
  return entry !== undefined && patch(entry, change, shelves.find(...part)?.extra?.varies);
}

function refuseUndefined(value: unknown, message: string | false): void {
  if (value === undefined) throw new CistaError("invalid-value", message);
}

function afterPut(entry: Entry, note: string): void {
  record("put", entry, note);
  tellChange(entry.shelf.core, { kind: "put", selectors: [], entries: [entry] });
  entry.links?.tellDependents();
  noteUse(entry);
  if (entry.watchers === 0 && entry.noStore) scheduleRelease(entry);
}

/** RFC 9111 §4.4. Says whether there was anything to invalidate. A failure that is shown is not to be trusted either (rule F5). */
export function invalidate(entry: Entry): boolean {
  const isMarked = markInvalidated(entry);
  if (isMarked || entry.activity?.failure) requestIfWatched(entry);
  return isMarked;
}

/**
 * Marks an entry as not to be trusted, without asking for it. One that holds nothing may be a dependency: a composite can come without it.
 * @param write the name of the write that invalidates it
 */
export function markInvalidated(entry: Entry, write?: string): boolean {
  if (entry.held === "none" && !entry.isAsking && !entry.links?.dependents.size) return false;
  const { core } = entry.shelf;
  entry.invalidatedAt = core.invalidatedAt = ++core.version;
  if (entry.activity) entry.activity.invalidatedBy = write;
  record("invalidate", entry, write);
  markDirty(entry);
  entry.links?.tellDependents();
  return true;
}

/** Forgets the held value. The entry itself goes too, unless it has watchers, readers or dependents. */
export function forget(entry: Entry): boolean {
  changeHeld(entry, () => entry.forget());
  supersede(entry, undefined, "the entry was deleted");
  entry.links?.dropDependencies();
  entry.links?.tellDependents();
  record("delete", entry);
  const { activity } = entry;
  if (activity && (activity.requestingWatchers > 0 || activity.isAwaited)) {
    startRequest(entry, "attach");
  } else if (entry.isIdle) {
    evict(entry, "deleted");
  }
  return true;
}

/**
 * Invalidates or deletes the entries that selectors mean, in one go.
 * @returns how many entries
 * @throws CistaError code "cache-disposed", and "invalid-selector" for one of another form
 */
export function changeSelected(core: Core, kind: "invalidate" | "delete", selectors: readonly Selector[]): number {
  assertNotDisposed(core);
  const entries = [...new Set(selectors.flatMap((selector) => selected(core, selector)))];
  return batch(core, () => {
    tellChange(core, { kind, selectors, entries });
    return entries.filter(kind === "delete" ? forget : invalidate).length;
  });
}

/** The same, for an answer that names several: see `changeSelected`. */
export function invalidateSelected(cache: Cache, selectors: readonly Selector[]): number {
  return changeSelected(coreOf(cache), "invalidate", selectors);
}

/** In development: the names of sources that were said to be defined twice. Hot reloading does so at each save of a file. */
const saidTwice = new WeakMap<Core, Set<string>>();

/** In development a newer definition takes a name over: values of the old one are forgotten, and loaded anew where they are watched. */
export function replaceDefinition(shelf: Shelf, old: Shelf): void {
  const { core, source } = shelf;
  const note = `A second source is named "${source.name}": it takes the place of the first. After hot reloading that is as it should be; else give one of them another name, and define sources once, outside of components.`;
  const said = saidTwice.get(core) ?? new Set();
  if (!said.has(source.name)) console.warn(`Cista: ${note}`);
  saidTwice.set(core, said.add(source.name));
  core.journal?.noteOther("warning", { source: source.name, note });
  const takeAll = () => {
    for (const entry of [...core.shelves.byKey.values()]) {
      if (entry.shelf !== old) continue;
      old.remove(entry);
      entry.shelf = shelf;
      entry.policy = shelf.settings.policy;
      shelf.add(entry);
      forget(entry);
    }
  };
  batch(core, takeAll, notifySoon);
}
