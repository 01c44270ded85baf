/** The dependencies of an entry, and the effects of their changes on it: comes with `composite()`. Rules D1, D2, H10. */
import type { Failure } from "../../api/failure.js";
import { startRequest } from "../../kernel/asking.js";
import { notesNow } from "../../kernel/users.js";
import { flush, markDirty, scheduleRelease } from "../../state/batches.js";
import type { Entry } from "../../state/entry.js";
import type { EntryRequest } from "../../state/entry-request.js";
import type { Dependency, Links, MadeFor, ThroughDependencies } from "../../state/links.js";
import type { Shelf } from "../../state/shelf.js";

export const notRead: number = -1;
/** The version of a value that is older than all that this cache has held. */
const older = -2;

const forAll: readonly MadeFor[] = [];

/** Notes that a load has read a dependency's value as it is now. */
export function noteValueRead(dependency: Dependency): void {
  dependency.version = dependency.entry.changedAt;
  noteTrusted(dependency);
  dependency.madeFor = madeForOf(dependency.entry);
}

/** Notes that the value that was read is trusted now; or that it was of before an invalidation, for which the load had not waited. */
export function noteTrusted(dependency: Dependency): void {
  const { version, invalidatedAt, shelf } = dependency.entry;
  dependency.trustedAt = version < invalidatedAt ? version : shelf.core.version;
}

/** For whom an entry's value is: its own answer, and those that it was made of. */
function madeForOf({ shelf, params, extra, links }: Entry): readonly MadeFor[] {
  const below = links?.madeFor ?? forAll;
  return extra?.varies ? [{ source: shelf.source.name, params, varies: extra.varies }, ...below] : below;
}

/** Of several answers of one source that were for the same user, one is enough to be compared. */
function distinct(all: readonly MadeFor[]): readonly MadeFor[] {
  if (all.length < 2) return all;
  return [...new Map(all.map((one) => [JSON.stringify([one.source, one.varies]), one])).values()];
}

/**
 * A program has put a value over a composite: it is made of no others, and for the present user of the sources that it was made of.
 * One that was not made yet may be made of any source that this cache has used.
 */
export function putOver(entry: Entry): void {
  const { core } = entry.shelf;
  const links = linksOf(entry);
  const before =
    links.dependencies.length + links.madeFor.length > 0 ? links.madeFor : [...core.shelves].flatMap(madeForAny);
  links.dropDependencies();
  links.madeFor = before.flatMap((part) => {
    const varies = notesNow(core, core.shelves.named(part.source)?.source, part.params, part.varies);
    return varies ? [{ ...part, varies }] : [];
  });
}

/** For whom any entry of a source is. */
function madeForAny(shelf: Shelf): MadeFor[] {
  for (const { params, extra } of shelf) return [{ source: shelf.source.name, params, varies: extra?.varies ?? {} }];
  return [];
}

/** Which entries an entry was made of, and which were made of it. */
export class EntryLinks implements Links, ThroughDependencies {
  readonly #entry: Entry;
  dependencies: Dependency[] = [];
  readonly dependents: Set<Entry> = new Set();
  madeFor: readonly MadeFor[] = forAll;
  wasInvalidatedAt = 0;
  /** The restored entry that it holds, until it holds another: its dependencies may still have to be found. */
  restored: object | undefined = undefined;
  /** The dependencies that the load under way has read so far, those that it waits for now, and the failures that came from dependencies. */
  dependenciesRead: Dependency[] = [];
  readonly awaited: Set<Entry> = new Set();
  /** Ends the waits of the load under way. */
  endWaits: (() => void) | undefined = undefined;
  failuresOfDependencies: WeakSet<WeakKey> = new WeakSet();
  /** The last of the dependencies by which a load of the request before has failed. */
  failedBy: Entry | undefined = undefined;
  /** An order in which a waiting entry comes before the entries that it waits for (rule D4); 0: it never waited. */
  rank = 0;
  /** Whether a dependency has changed since the members below were computed; `current` computes them before they are used. */
  outdated = false;
  /** Whether a dependency changed while this entry's own request was under way: its dependents are checked when that request ends. */
  owesCheck = false;
  /** The version at which the newest change began that it is to be brought up to date with. */
  wave = 0;
  /** The last two requests for it that belong to a change, begun by a composite's load or a composite's own, with that change's `wave`. */
  asked: readonly { readonly request: EntryRequest; readonly wave: number }[] = [];
  dependencyStanding: ThroughDependencies["dependencyStanding"] = "none";
  staleAt: number = Number.POSITIVE_INFINITY;
  expiredAt: number = Number.POSITIVE_INFINITY;
  coveredUntil: number = Number.POSITIVE_INFINITY;
  noStore = false;
  mustRevalidate = false;

  constructor(entry: Entry) {
    this.#entry = entry;
  }

  current(): this {
    if (this.outdated) recomputeOutdated(this);
    return this;
  }

  tellDependents(event: "change" | "same" = "change"): void {
    markDependentsOutdated(this.#entry, event);
  }

  dropDependencies(keepsReads = false): void {
    setDependencies(this.#entry, [], keepsReads);
  }

  takeDependencies(areUnchanged: boolean): void {
    if (areUnchanged) recheckDependencies(this.#entry);
    else setDependencies(this.#entry, this.dependenciesRead);
  }

  discardReads(startVersion: number): void {
    discardReads(this.#entry, startVersion);
  }

  forgetReads(): void {
    forgetReads(this.#entry);
  }

  noteForgotten(): void {
    const { isOutdated, invalidatedAt, shelf } = this.#entry;
    this.wasInvalidatedAt = Math.max(this.wasInvalidatedAt, isOutdated ? shelf.core.version : invalidatedAt);
  }

  isOfDependency(failure: Failure): boolean {
    return this.failuresOfDependencies.has(failure);
  }

  get hasRecovered(): boolean {
    const seen = new Set<Entry>();
    for (let by = this.failedBy; by && !seen.has(by); by = ownLinks(by)?.failedBy) {
      if (!by.activity?.failure) return true;
      seen.add(by);
    }
    return false;
  }

  isWantedAbove(): boolean {
    return isWantedAbove(this.#entry);
  }

  releaseDependencies(): void {
    for (const dependency of this.dependencies) releaseDependency(dependency.entry, this.#entry);
  }
}

/**
 * The version at which a change of an entry's value began. A request that a composite's load has begun belongs to the change
 * that had that composite loaded; any other, a `put` or an invalidation begins one.
 */
function waveOf(entry: Entry): number {
  if (entry.isInvalidated) return entry.shelf.core.version;
  if (entry.held === "none") return entry.changedAt; // deleted
  const asked = ownLinks(entry)?.asked.find(({ request }) => request.startVersion === entry.version);
  return asked?.wave ?? entry.version;
}

/** The same of a load that begins. */
export function waveOfLoad(entry: Entry, request: EntryRequest): number {
  const { asked, wave } = linksOf(entry);
  const [last] = asked;
  if (last?.request === request) return Math.max(last.wave, wave);
  return request.cause === "dependency" && wave > 0 ? wave : request.startVersion;
}

/** Notes to which change a request belongs. */
export function noteAsked(entry: Entry, request: EntryRequest, wave: number): void {
  const links = linksOf(entry);
  const before = links.asked.find((one) => one.request !== request);
  links.asked = [{ request, wave }, ...(before ? [before] : [])];
}

export function linksOf(entry: Entry): EntryLinks {
  entry.links ??= new EntryLinks(entry);
  return entry.links as EntryLinks;
}

function ownLinks(entry: Entry): EntryLinks | undefined {
  return entry.links as EntryLinks | undefined;
}

/** An entry is no longer a dependent of this one. */
export function releaseDependency(dependency: Entry, dependent: Entry): void {
  ownLinks(dependency)?.dependents.delete(dependent);
  scheduleRelease(dependency);
}

/**
 * The dependencies of an entry are these from now on; those that are no longer are let go.
 * @param keepsReads a load goes on: its answer will be made of the entries that it has read
 */
function setDependencies(entry: Entry, dependencies: readonly Dependency[], keepsReads = false): void {
  const links = linksOf(entry);
  const read = links.dependenciesRead;
  // An open stream goes on reading. Other entries that the load still reads are not among the dependencies.
  if (!entry.isOpen && !keepsReads) links.dependenciesRead = [];
  const before = new Set([...links.dependencies, ...read].map((dependency) => dependency.entry));
  if (keepsReads) for (const dependency of read) before.delete(dependency.entry);
  links.restored = undefined;
  links.dependencies = dependencies.map((dependency) => ({ ...dependency }));
  for (const dependency of links.dependencies) if (dependency.version === notRead) noteRead(dependency);
  links.madeFor = distinct(links.dependencies.flatMap((dependency) => dependency.madeFor));
  for (const dependency of dependencies) {
    linksOf(dependency.entry).dependents.add(entry);
    before.delete(dependency.entry);
  }
  for (const dependency of before) releaseDependency(dependency, entry);
  links.outdated = true;
  markDirty(entry);
  recheckDependencies(entry);
}

function noteRead(dependency: Dependency): void {
  noteValueRead(dependency);
  dependency.readAt = dependency.entry.shelf.core.version;
}

/** An entry that was restored is made of another: a change of that one reaches it. @param isSame of the value that is held now */
export function linkRestored(entry: Entry, dependency: Entry, isSame: boolean): void {
  const links = linksOf(entry);
  const { core } = dependency.shelf;
  const version = isSame ? dependency.changedAt : older;
  links.dependencies.push({ entry: dependency, version, readAt: core.version, trustedAt: core.version, madeFor: [] });
  linksOf(dependency).dependents.add(entry);
  links.outdated = true;
  markDirty(entry);
  if (isSame) return;
  noteWave(entry, dependency);
  scheduleDependencyCheck(entry);
}

/**
 * Dependencies that changed, or were invalidated, since they were read are read again, and so are dependencies that are being brought up to
 * date. A dependency that could not be brought up to date is not: it would be asked for over and over.
 */
function recheckDependencies(entry: Entry): void {
  const again = linksOf(entry).dependencies.filter(
    ({ entry: dependency, version, readAt }) =>
      dependency.changedAt !== version ||
      dependency.invalidatedAt > readAt ||
      isBeingRevalidated(dependency) ||
      (dependency.mustRevalidate && isStaleThroughDependencies(dependency) && linksOf(dependency).wave > readAt),
  );
  if (again.length === 0) return;
  noteWave(entry, ...again.map((dependency) => dependency.entry));
  scheduleDependencyCheck(entry);
}

/** Whether a dependency that is stale through its own dependencies is being brought up to date, is about to be, or has not been tried. */
function isBeingRevalidated(dependency: Entry): boolean {
  const { core } = dependency.shelf;
  if (!isStaleThroughDependencies(dependency)) return false;
  const { wave, asked } = linksOf(dependency);
  const [last, before] = asked;
  // Another composite asks for it once more for one change: else two composites would ask for it in turns, for ever.
  const isOnceMore = last !== undefined && last.request === dependency.request && last.wave === before?.wave;
  const isAsked = dependency.request !== undefined && !isOnceMore;
  return isAsked || core.pendingChecks.has(dependency) || wave > (last?.wave ?? 0);
}

/** A load has failed: the dependencies stay as they were. It is begun anew only for a change that it cannot have seen. */
function discardReads(entry: Entry, startVersion: number): void {
  const read = linksOf(entry).dependenciesRead;
  const outrun = read.filter(
    ({ entry: dependency, version }) =>
      (version !== notRead && dependency.changedAt !== version) || dependency.invalidatedAt > startVersion,
  );
  forgetReads(entry);
  noteWave(entry, ...outrun.map((dependency) => dependency.entry));
  if (outrun.length > 0) scheduleDependencyCheck(entry);
}

/** The entries that an ended load has read are kept only where they are dependencies of the entry. */
function forgetReads(entry: Entry): void {
  const links = linksOf(entry);
  const { dependenciesRead } = links;
  links.endWaits?.();
  links.dependenciesRead = []; // another list, also where none was read: what the load that is over still reads is not noted
  if (dependenciesRead.length === 0) return;
  const kept = new Set(links.dependencies.map((dependency) => dependency.entry));
  for (const dependency of dependenciesRead)
    if (!kept.has(dependency.entry)) releaseDependency(dependency.entry, entry);
}

/**
 * After what an entry holds, or whether it is trusted, has changed: all that is made of it, directly or not, is reckoned
 * anew before it is next used, and looked at when this turn of the event loop ends.
 * @param event "same" where nothing is another than before (an equal answer, a failure): it is looked at only where a change
 * further below has been waiting for this end; else composites that share a dependency would ask for it in turns, for ever
 */
function markDependentsOutdated(entry: Entry, event: "change" | "same"): void {
  const own = linksOf(entry);
  const isLookedAt = event === "change" || own.owesCheck;
  own.owesCheck = false;
  const wave = waveOf(entry);
  const { pendingChecks } = entry.shelf.core;
  const pending = [entry];
  const awaited: Entry[] = [];
  for (let dependency = pending.pop(); dependency; dependency = pending.pop()) {
    for (const dependent of dependency.links?.dependents ?? []) {
      const links = linksOf(dependent);
      // Loaded for the first time, it is made of nothing yet; outdated and to be looked at already, so is all that is made of it.
      if (links.dependencies.length === 0 || (links.outdated && (!isLookedAt || pendingChecks.has(dependent))))
        continue;
      links.wave = Math.max(links.wave, wave);
      const answerComes = links.dependencyStanding !== "none" && dependent.request !== undefined;
      links.outdated = true;
      if (answerComes) {
        links.owesCheck ||= isLookedAt; // it is in doubt, as all that is made of it: its own end tells what comes of that
        if (links.dependencyStanding === "stale") awaited.push(dependent);
        continue;
      }
      markDirty(dependent);
      if (isLookedAt) scheduleDependencyCheck(dependent);
      pending.push(dependent);
    }
  }
  if (entry.isInvalidated && awaited.length > 0) markAllAboveOutdated(awaited);
}

/** All that is made of entries that were stale, and are invalidated now, may not be read as it is any longer. */
function markAllAboveOutdated(entries: readonly Entry[]): void {
  const above = new Set(entries);
  for (const dependency of above) {
    for (const dependent of dependency.links?.dependents ?? []) {
      const links = linksOf(dependent);
      // What is outdated, and has no request of its own, has told all that is made of it. A first load is made of nothing yet.
      if (links.dependencies.length === 0 || (links.outdated && !dependent.request)) continue;
      links.outdated = true;
      markDirty(dependent);
      above.add(dependent);
    }
  }
}

/** These dependencies have changed: their composite is to be brought up to date with the newest of these changes. */
function noteWave(entry: Entry, ...dependencies: readonly Entry[]): void {
  const links = linksOf(entry);
  links.wave = Math.max(links.wave, ...dependencies.map(waveOf));
}

/** Whether something that is made of an entry, directly or not, is watched, or is being loaded. */
function isWantedAbove(entry: Entry): boolean {
  const above = new Set([entry]);
  for (const { links } of above) {
    for (const dependent of links?.dependents ?? []) {
      if (dependent.request || (dependent.activity?.requestingWatchers ?? 0) > 0) return true;
      above.add(dependent);
    }
  }
  return false;
}

// ── Looked at when this go of the event loop ends ────────────────────────────

/** Notes that an entry may be stale through its dependencies. It is checked once, in a microtask, after all changes of this go (rule D1). */
function scheduleDependencyCheck(entry: Entry): void {
  const { core } = entry.shelf;
  if (core.disposed) return;
  const { pendingChecks: checks } = core;
  if (checks.size === 0) queueMicrotask(() => core.disposed || flush(core, checks, revalidateIfDependenciesChanged));
  checks.add(entry);
}

/** Rule D1: an entry that is stale through its dependencies is revalidated if it is wanted. */
function revalidateIfDependenciesChanged(entries: readonly Entry[]): void {
  const doubtful = entries.filter((entry) => !entry.isRemoved && isDoubtful(entry));
  for (const entry of entries) if (!entry.isRemoved && entry.noStore && entry.watchers === 0) scheduleRelease(entry);
  const wanted = wantedAmong(doubtful);
  for (const entry of doubtful) if (wanted.has(entry) && !entry.request) startRequest(entry, "dependency");
}

/** Those that a component watches or a load is under way for, or that such an entry is made of, directly or not: each looked at once. */
function wantedAmong(entries: readonly Entry[]): ReadonlySet<Entry> {
  const above = new Set(entries);
  for (const { links } of above) for (const dependent of links?.dependents ?? []) above.add(dependent);
  const wanted = new Set<Entry>();
  const isWanted = ({ activity, request }: Entry) => (activity?.requestingWatchers ?? 0) > 0 || request !== undefined;
  for (const entry of above) if (isWanted(entry) && !entry.activity?.signedOut) wanted.add(entry);
  // Also the dependencies that a load under way has read: its answer would be stale from the start, without a request.
  for (const entry of wanted)
    for (const { entry: dependency } of [
      ...(entry.links?.dependencies ?? []),
      ...(ownLinks(entry)?.dependenciesRead ?? []),
    ])
      if (above.has(dependency)) wanted.add(dependency);
  return wanted;
}

/** Dependencies first, without recursion: chains of them may be thousands long. */
function recomputeOutdated(wanted: EntryLinks): void {
  const pending = [wanted];
  for (let links = pending.at(-1); links; links = pending.at(-1)) {
    if (links.outdated) {
      links.outdated = false; // before its dependencies: where they lead back here it ends
      for (const { entry } of links.dependencies) if (ownLinks(entry)?.outdated) pending.push(linksOf(entry));
    } else {
      recompute(links);
      pending.pop();
    }
  }
}

/** Before any version. */
const never = -1;

function recompute(links: EntryLinks): void {
  links.dependencyStanding = "none";
  links.staleAt = links.expiredAt = links.coveredUntil = Number.POSITIVE_INFINITY;
  links.noStore = links.mustRevalidate = false;
  for (const dependency of links.dependencies) {
    const { entry } = dependency;
    const isChanged = entry.changedAt !== dependency.version;
    if (isChanged && entry.isOutdated) dependency.trustedAt = never; // whatever comes of it, the value that was read is gone
    const invalidatedAt = Math.max(entry.invalidatedAt, entry.links?.wasInvalidatedAt ?? 0);
    const isInvalidated = entry.isOutdated || (isChanged && invalidatedAt > dependency.trustedAt);
    // Not whether a dependency is for the present user: that may change without a sign, and is tested by `madeFor`.
    if (isInvalidated) links.dependencyStanding = "invalidated";
    else if (links.dependencyStanding === "none" && (isChanged || isDoubtful(entry)))
      links.dependencyStanding = "stale";
    links.staleAt = Math.min(links.staleAt, entry.staleAt);
    links.expiredAt = Math.min(links.expiredAt, entry.expiredAt);
    links.coveredUntil = Math.min(links.coveredUntil, entry.coveredUntil);
    links.noStore ||= entry.noStore;
    links.mustRevalidate ||= entry.mustRevalidate;
  }
}

/** Whether an entry is invalidated, or stale through dependencies of its own. */
export function isStaleThroughDependencies(entry: Entry): boolean {
  return entry.isInvalidated || isDoubtful(entry);
}

/** Whether an entry is stale, or invalidated, through dependencies of its own. */
function isDoubtful({ links }: Entry): boolean {
  return (links?.current().dependencyStanding ?? "none") !== "none";
}
