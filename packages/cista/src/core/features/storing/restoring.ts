/** A snapshot taken in: checked and aged. Rules S1, H2, H10, H11. */
import type { Cache } from "../../api/contract.js";
import { CistaError, preview } from "../../api/failure.js";
import { isLength, type Restored, type Snapshot, type StoredEntry, wellFormed } from "../../api/stored.js";
import { requestIfWatched, supersede } from "../../kernel/asking.js";
import { changeHeld, getOrCreateEntry } from "../../kernel/keeping.js";
import { outcomeOf } from "../../kernel/waiting.js";
import { batch } from "../../state/batches.js";
import { assertNotDisposed, type Core, coreOf, nowOf, record } from "../../state/core.js";
import type { Entry } from "../../state/entry.js";
import type { Shelf } from "../../state/shelf.js";
import { linksOf } from "../composite/dependencies.js";
import { Pending } from "./pending.js";
import { linkTo, partsBelow } from "./relinking.js";
import { byKey } from "./restored-places.js";
import { detailsOf, notedUsers } from "./snapshot.js";

/**
 * Takes a snapshot's entries in, where nothing younger is held. Rule S1: it is foreign; a bad entry is dropped and journaled,
 * never the rest. Entries of a source that has not been used yet wait for it.
 * @throws CistaError code "invalid-snapshot" for one of another form, version or partition
 * @example
 * const cache = createCache();
 * restoreSnapshot(cache, JSON.parse(text));
 */
export function restoreSnapshot(cache: Cache, snapshot: Snapshot): void {
  restoreWith(cache, snapshot, undefined);
}

/**
 * The same for the entries that came with a page.
 * @param page whether it was made for this visit (rule H2)
 * @param among where the values are that its composites were made of: its own entries, and those of other snapshots
 * @internal
 */
export function restoreWith(
  cache: Cache,
  snapshot: Snapshot,
  page: { readonly isLive: boolean } | undefined,
  among: readonly unknown[] = snapshot?.entries,
): void {
  const core = coreOf(cache);
  assertNotDisposed(core);
  const { format, version, takenAt, entries } = (snapshot ?? {}) as Snapshot;
  if (format !== "cista-snapshot" || version !== 1 || !Array.isArray(entries) || !isLength(takenAt)) {
    throw new CistaError(
      "invalid-snapshot",
      DEVELOPMENT && `A snapshot has the format "cista-snapshot" and the version 1, but this is ${preview(snapshot)}.`,
    );
  }
  if (snapshot.partition !== core.options.partition) {
    throw new CistaError(
      "invalid-snapshot",
      DEVELOPMENT &&
        `The snapshot is of the partition ${preview(snapshot.partition)}, and this cache of ${preview(core.options.partition)}: one user's entries are not another's.`,
    );
  }
  // RFC 9111 §4.2.3: the age when taken and the time since then count, whatever the clocks said before.
  const at = nowOf(core);
  const elapsed = core.clock.epoch + at - takenAt;
  // Taken by a clock that was ahead of this one: its age is unknown, so it is not shown without a revalidation.
  const trusted = elapsed >= -clockTolerance;
  const since = Math.max(0, elapsed);
  const beside = byKey(among);
  const { version: versionThen } = core;
  const pending = pendingOf(core);
  let room = core.capacity - pending.size;
  batch(core, () => {
    const taken: Taken[] = [];
    for (const [index, entry] of entries.entries()) {
      if (room <= 0) {
        recordDropped(core, `${entries.length - index} entries over the capacity`);
        break;
      }
      const stored = wellFormed(entry);
      const places = stored ? 1 + newDependencies(core, stored) : 0;
      if (stored && places <= room) {
        const aged = { ...stored, age: stored.age + since };
        const restored = { stored: aged, at, version: versionThen, trusted, page, beside };
        const shelf = core.shelves.named(stored.source);
        if (shelf) restoreEntry(shelf, restored, taken);
        else pending.add(restored); // kept for its source
        room -= places;
      } else recordDropped(core, entry);
    }
    taken.forEach(finishRestored);
  });
  if (pending.size > 0) pending.forgetLater();
}

/** Two machines' clocks, in milliseconds: so much may one be ahead of the other. */
const clockTolerance = 5000;

/** How many entries it takes for the dependencies of an entry: for each that is not there yet. */
function newDependencies({ shelves }: Core, { parts = [] }: StoredEntry): number {
  return parts.filter(([source, params]) => !shelves.named(source)?.find(params)).length;
}

function recordDropped(core: Core, what: unknown): void {
  core.journal?.noteOther("warning", { note: `Dropped from a snapshot: ${preview(what)}.` });
}

function pendingOf(core: Core): Pending {
  core.pendingRestores ??= new Pending(core, restoreAll);
  return core.pendingRestores as Pending;
}

/** An entry that holds its restored value. */
interface Taken {
  readonly entry: Entry;
  readonly restored: Restored;
}

function restoreAll(shelf: Shelf, all: readonly Restored[]): void {
  const taken: Taken[] = [];
  for (const restored of all) restoreEntry(shelf, restored, taken);
  taken.forEach(finishRestored);
}

/** @param taken is given the entry, if it has taken the value: it is finished once all of them have */
function restoreEntry(shelf: Shelf, restored: Restored, taken: Taken[]): void {
  const { core } = shelf;
  const { stored } = restored;
  let entry: Entry;
  try {
    entry = getOrCreateEntry(core, shelf.source, stored.params);
  } catch {
    recordDropped(core, stored); // params that can make no key
    return;
  }
  if (entry.held !== "none" && !isYounger(restored, entry)) return;
  // Only a page of its own may carry it (rule H5), or be for the user who opens it (F9).
  if (!restored.page && (stored.noStore || notedUsers(stored).includes("*"))) {
    recordDropped(core, stored);
    return;
  }
  const checked = stored.kind === "missing" ? { value: undefined } : checkedNow(entry, stored.value);
  let isTaken = checked !== undefined;
  try {
    if (checked) holdRestored(entry, restored, checked.value);
  } catch {
    isTaken = false; // a proxy that throws when it is looked at, or details that cannot be
  }
  if (isTaken) taken.push({ entry, restored });
  else recordDropped(core, stored);
}

/** Rule S1: the output of the source's check for a restored value; undefined if the check refuses it, or does not answer at once. */
export function checkedNow({ shelf: { source } }: Entry, value: unknown): { readonly value: unknown } | undefined {
  const { check, accepts } = source.definition;
  try {
    if (accepts && !accepts(value)) return undefined;
    if (!check) return { value };
    const result = check["~standard"].validate(value) as { value?: unknown; issues?: readonly unknown[] };
    return result instanceof Promise || result.issues || result.value === undefined
      ? undefined
      : { value: result.value };
  } catch {
    return undefined;
  }
}

/** RFC 9111 §4: of two answers the most recent one counts. A value that was put, or that a write lies on, is not replaced by an old one. */
function isYounger({ stored, at, trusted }: Restored, entry: Entry): boolean {
  return trusted && !entry.activity?.hasLayers && at - stored.age > entry.storedAt - entry.initialAge;
}

/** Those that are still to come with the page are not asked for: until they have come, or the page is complete (`undefined`). */
export function expectWithPage(cache: Cache, keys: readonly string[] | undefined): void {
  const core = coreOf(cache);
  const before = core.comingWithPage;
  if (keys) {
    core.comingWithPage = new Set([...(before ?? []), ...keys]);
    return;
  }
  core.comingWithPage = undefined;
  if (!before || core.disposed) return;
  batch(core, () => {
    for (const entry of [...core.underWay]) if (before.has(entry.key)) entry.request?.start();
  });
}

/** Throws where it cannot be held. */
function holdRestored(entry: Entry, { stored, at, trusted, page }: Restored, value: unknown): void {
  const { core } = entry.shelf;
  const now = nowOf(core); // once: its moment must not move by what passes between two looks at the clock
  const details = {
    ...detailsOf(stored),
    groups: entry.shelf.groupsWithOwn(entry.params, stored.groups),
    age: stored.age + (now - at),
    ...(stored.noStore && page ? { noStore: true } : {}),
  };
  const wasInvalidated = entry.held !== "none" && entry.isInvalidated;
  // Those of an older value. A load that goes on keeps what it has read.
  entry.links?.dropDependencies(entry.request !== undefined && !core.comingWithPage?.has(entry.key));
  // Older than every request and invalidation of this cache: it is no answer to any of them.
  changeHeld(entry, () => entry.hold(stored.kind, value, details, entry.version, now));
  if (core.comingWithPage?.delete(entry.key) && entry.request)
    supersede(entry, outcomeOf(entry), "it has come with the page");
  if (!trusted || wasInvalidated) entry.invalidatedAt = ++core.version;
  record("restore", entry);
  entry.links?.tellDependents();
}

/** Links it to its dependencies as they are by then, and notes the page that it came with. */
function finishRestored({ entry, restored }: Taken): void {
  const { page } = restored;
  linkDependencies(entry, restored);
  if (page) noteBrought(entry, page);
  if (entry.isOutdated && !entry.request) requestIfWatched(entry); // it was invalidated while it was to come
}

function noteBrought(entry: Entry, page: NonNullable<Restored["page"]>): void {
  const now = nowOf(entry.shelf.core);
  // Rule H2: an answer is shown to all who wait for it when it comes, whatever its lifetime.
  const activity = entry.active();
  activity.isDisplayed = true;
  activity.staleOnArrival = !entry.isFresh(now);
  activity.isBrought = page.isLive;
}

/** Rule H10: links an entry to its dependencies, so that a change of a dependency reaches it. */
function linkDependencies(entry: Entry, restored: Restored): void {
  const { madeFor } = restored.stored;
  const { core } = entry.shelf;
  const parts = partsBelow(core, restored);
  if (parts.length > 0) linksOf(entry).restored = restored;
  if (madeFor)
    linksOf(entry).madeFor = madeFor.map((part) => ({ params: undefined, ...part, varies: { ...part.varies } }));
  for (const [source, params] of parts) {
    const shelf = core.shelves.named(source);
    if (shelf) linkTo(entry, getOrCreateEntry(core, shelf.source, params), restored);
    else pendingOf(core).linkLater(source, { entry, params, restored });
  }
}
