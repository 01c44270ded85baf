/** The cache's content as data. Rules S1, S2, H10. */
import { type AnswerDetails, mostGroups } from "../../api/answer.js";
import type { Cache, Selector } from "../../api/contract.js";
import type { Snapshot, StoredEntry } from "../../api/stored.js";
import { omitUndefined } from "../../lib/omit-undefined.js";
import { assertNotDisposed, coreOf, nowOf } from "../../state/core.js";
import type { Entry } from "../../state/entry.js";
import type { Links } from "../../state/links.js";
import { selected } from "../changing/selector.js";

const finite = (length: number) => (length === Number.POSITIVE_INFINITY ? null : length);
const forever = (length: number | null) => length ?? Number.POSITIVE_INFINITY;

/**
 * The content of a cache as data, for a file, a page rendered on a server, or another cache: see docs/snapshot-format.md.
 * Values that are `noStore` (rule S2) or invalidated are left out.
 * @param select which entries; default: all of them
 * @throws CistaError code "invalid-selector"
 * @example
 * const text = JSON.stringify(takeSnapshot(cache, { group: "huts" }));
 */
export function takeSnapshot(cache: Cache, select: Selector = "all"): Snapshot {
  return snapshotWith(cache, select, false);
}

/**
 * The same for a page.
 * @param withNoStore also `noStore` values: only for a page that is `no-store` itself (rule H5)
 * @internal
 */
export function snapshotWith(cache: Cache, select: Selector, withNoStore: boolean): Snapshot {
  const core = coreOf(cache);
  assertNotDisposed(core);
  const along = selected(core, select).filter((entry) => isStorable(entry, withNoStore));
  const isAlong = new Set(along);
  const now = nowOf(core);
  return omitUndefined({
    format: "cista-snapshot",
    version: 1,
    takenAt: core.clock.epoch + now,
    partition: core.options.partition,
    entries: along.map((entry) => stored(entry, now, (other) => isAlong.has(other))),
  });
}

/**
 * The one entry of a key, as a snapshot has it; undefined where that stays behind.
 * @internal
 */
export function storedUnder(cache: Cache, key: string, withNoStore: boolean): StoredEntry | undefined {
  const core = coreOf(cache);
  const entry = core.shelves.byKey.get(key);
  return entry && isStorable(entry, withNoStore) ? stored(entry, nowOf(core), alone) : undefined;
}

const alone = () => false;

function isStorable(entry: Entry, withNoStore: boolean): boolean {
  return entry.held !== "none" && (withNoStore || !entry.noStore) && !entry.isInvalidated && !isTooDeep(entry.value);
}

/** @param isAlong whether another entry goes along in the same snapshot */
function stored(entry: Entry, now: number, isAlong: (other: Entry) => boolean): StoredEntry {
  const { policy, extra, ownGroups, links, params, value, noStore, mustRevalidate } = entry;
  // A stream's value is fresh only while the stream is open. It is there at once, and the next watcher opens the stream again (rule H10).
  const { isOpen } = entry;
  // Made of an older value of a dependency, it is stale. A look at the dependencies would find them unchanged since the restore: a stale one is loaded.
  const below = links && dependenciesBelow(links, isAlong);
  const groups = below ? groupsWithThose(ownGroups, below, isAlong) : ownGroups;
  const isComplete = !links || (below && groups.length <= mostGroups);
  const isOutrun = !isComplete || (links !== undefined && links.current().dependencyStanding !== "none");
  const made = { source: entry.shelf.source.name } as Writable<StoredEntry>;
  if (params !== undefined) made.params = params;
  made.kind = entry.held as StoredEntry["kind"];
  if (value !== undefined) made.value = value;
  made.age = entry.age(now);
  made.maxAge = isOpen || isOutrun ? 0 : finite(policy.maxAge);
  made.staleWhileRevalidate = isOpen ? null : finite(policy.staleWhileRevalidate);
  made.staleIfError = finite(policy.staleIfError);
  if (noStore) made.noStore = true;
  if (below && below.size > 0) made.parts = [...below].map(placeOf);
  if (mustRevalidate) made.mustRevalidate = true;
  if (policy.immutable) made.immutable = true;
  if (extra?.validator) Object.assign(made, extra.validator);
  if (groups.length > 0) made.groups = groups.slice(0, mostGroups);
  if (extra?.varies) made.varies = extra.varies;
  if (links && links.madeFor.length > 0) made.madeFor = links.madeFor;
  return made;
}

/** So many dependencies of its dependencies are told. */
const mostBelow = 100;

/**
 * The entries that an entry is made of; and those of a composite among them that stays behind, since a change of these has to reach
 * the entry without it. Undefined where there are too many: the entry cannot be known to be right where it arrives.
 */
function dependenciesBelow(
  { dependencies }: Links,
  isAlong: (other: Entry) => boolean,
): ReadonlySet<Entry> | undefined {
  const below = new Set(dependencies.map((part) => part.entry));
  const most = below.size + mostBelow;
  for (const entry of below) {
    if (isAlong(entry)) continue;
    for (const part of entry.links?.dependencies ?? []) below.add(part.entry);
    if (below.size > most) return undefined;
  }
  return below;
}

/** A change of a group has to reach an entry also without the dependencies that are in it; a group of one origin, by their URLs. */
function groupsWithThose(
  own: readonly string[],
  below: ReadonlySet<Entry>,
  isAlong: (other: Entry) => boolean,
): readonly string[] {
  const groups = new Set(own);
  for (const entry of below)
    if (!isAlong(entry) && entry.ownGroups.length > 0) for (const group of entry.groups) groups.add(group);
  return [...groups];
}

type Writable<T> = { -readonly [K in keyof T]: T[K] };

/** Params that are undefined are left out: as JSON they would be null, another key. */
function placeOf({ shelf: { source }, params }: Entry): readonly [source: string, params?: unknown] {
  return params === undefined ? [source.name] : [source.name, params];
}

/**
 * Whether it is for a user whose name was made up in this memory: then it means nothing to another tab, or to a later page (rule F9).
 * @internal
 */
export function staysHere(stored: ForUsers): boolean {
  return notedUsers(stored).some((noted) => noted[0] === "~" || noted === "*");
}

/**
 * Whether an entry is made of others. Such an entry is each tab's own, and its dependencies are told (rule B4): only the tab that made the
 * entry knows its dependencies and its users.
 * @internal
 */
export function isMadeOfOthers({ parts, madeFor }: StoredEntry): boolean {
  return parts !== undefined || madeFor !== undefined;
}

type ForUsers = Pick<StoredEntry, "varies" | "madeFor">;

/** The notes on the users for whom an entry is. */
export function notedUsers({ varies = {}, madeFor = [] }: ForUsers): string[] {
  return [varies, ...madeFor.map((part) => part.varies)].flatMap((each) => Object.values(each));
}

function isFlat(value: unknown): boolean {
  if (typeof value !== "object" || value === null) return true;
  for (const name in value) {
    const member: unknown = (value as Record<string, unknown>)[name];
    if (typeof member === "object" && member !== null) return false;
  }
  return true;
}

/** Deeper values than this cannot be made text of, or be stored, everywhere. */
const deepest = 1000;

/** Also for a value that contains itself: no text can be made of it. An object that is reached by many ways is looked into once. */
function isTooDeep(value: unknown): boolean {
  if (isFlat(value)) return false; // most are
  const heights = new Map<object, number>();
  /** The number of levels below and with it. @param depth those above it */
  const heightOf = (given: unknown, depth: number): number => {
    if (typeof given !== "object" || given === null) return 0;
    const known = heights.get(given);
    if (known !== undefined) return known;
    if (depth > deepest) return Number.POSITIVE_INFINITY;
    heights.set(given, Number.POSITIVE_INFINITY); // while it is looked into: whoever meets it there is within it
    let height = 0;
    for (const member of Object.values(given)) height = Math.max(height, heightOf(member, depth + 1));
    heights.set(given, height + 1);
    return height + 1;
  };
  return heightOf(value, 0) > deepest;
}

/**
 * The details that a stored entry, or one told by another tab, has beside its value.
 * @internal
 */
export function detailsOf(stored: StoredEntry): AnswerDetails {
  const { etag, lastModified, lastEventId, mustRevalidate = false, immutable = false, varies } = stored;
  const validated = etag !== undefined || lastModified !== undefined || lastEventId !== undefined;
  return {
    age: stored.age,
    maxAge: forever(stored.maxAge),
    staleWhileRevalidate: forever(stored.staleWhileRevalidate),
    staleIfError: forever(stored.staleIfError),
    mustRevalidate,
    immutable,
    groups: stored.groups ?? [],
    ...(varies ? { varies: { ...varies } } : {}),
    ...(validated ? { validator: omitUndefined({ etag, lastModified, lastEventId }) } : {}),
  };
}
