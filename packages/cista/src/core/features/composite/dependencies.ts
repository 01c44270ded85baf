/** The dependencies of an entry, and the effects of their changes on it: comes with `composite()`. Rules D1, D2, H10. */
import type { Failure } from "../../api/failure.js";
import { startRequest } from "../../kernel/asking.js";
import type { Request } from "../../lib/request.js";
import { flush, markDirty, scheduleRelease } from "../../state/batches.js";
import type { Entry } from "../../state/entry.js";
import type { Links, MadeFor, Part, ThroughParts } from "../../state/links.js";

export const notRead: number = -1;

const forAll: readonly MadeFor[] = [];

/** Notes that a load has read a part's value as it is now. */
export function noteValueRead(part: Part): void {
  part.version = part.entry.changedAt;
  part.madeFor = madeForOf(part.entry);
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

/** Which entries an entry was made of, and which were made of it. */
export class EntryLinks implements Links, ThroughParts {
  readonly #entry: Entry;
  parts: Part[] = [];
  readonly dependents: Set<Entry> = new Set();
  madeFor: readonly MadeFor[] = forAll;
  /** The parts that the load under way has read so far, those that it waits for now, and the failures that came from parts. */
  partsRead: Part[] = [];
  readonly awaited: Set<Entry> = new Set();
  /** Ends the waits of the load under way. */
  endWaits: (() => void) | undefined = undefined;
  failuresFromParts: WeakSet<WeakKey> = new WeakSet();
  /** An order in which a waiting entry comes before the entries that it waits for (rule D4); 0: it never waited. */
  rank = 0;
  /** Whether a part has changed since the members below were computed; `current` computes them before they are used. */
  outdated = false;
  /** Whether a part changed while this entry's own request was under way: its dependents are checked when that request ends. */
  owesCheck = false;
  /** The version at which the newest change began that it is to be brought up to date with. */
  wave = 0;
  /** The last two requests for it that belong to a change, begun by a whole's load or a whole's own, with that change's `wave`. */
  asked: readonly { readonly request: Request; readonly wave: number }[] = [];
  partsStanding: ThroughParts["partsStanding"] = "none";
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

  dropParts(keepsReads = false): void {
    setParts(this.#entry, [], keepsReads);
  }

  takeParts(areUnchanged: boolean): void {
    if (areUnchanged) recheckParts(this.#entry);
    else setParts(this.#entry, this.partsRead);
  }

  discardReads(startVersion: number): void {
    discardReads(this.#entry, startVersion);
  }

  forgetReads(): void {
    forgetReads(this.#entry);
  }

  isOfPart(failure: Failure): boolean {
    return this.failuresFromParts.has(failure);
  }

  isWantedAbove(): boolean {
    return isWantedAbove(this.#entry);
  }

  releaseParts(): void {
    for (const part of this.parts) releasePart(part.entry, this.#entry);
  }
}

/**
 * The version at which a change of an entry's value began. A request that a composite's load has begun belongs to the change
 * that had that whole loaded; any other, a `put` or an invalidation begins one.
 */
function waveOf(entry: Entry): number {
  if (entry.isInvalidated) return entry.shelf.core.version;
  const asked = ownLinks(entry)?.asked.find(({ request }) => request.startVersion === entry.version);
  return asked?.wave ?? entry.version;
}

/** The same of a load that begins. */
export function waveOfLoad(entry: Entry, request: Request): number {
  const { asked, wave } = linksOf(entry);
  const [last] = asked;
  if (last?.request === request) return Math.max(last.wave, wave);
  return entry.active().cause === "dependency" && wave > 0 ? wave : request.startVersion;
}

/** Notes to which change a request belongs. */
export function noteAsked(entry: Entry, request: Request, wave: number): void {
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
export function releasePart(part: Entry, dependent: Entry): void {
  ownLinks(part)?.dependents.delete(dependent);
  scheduleRelease(part);
}

/**
 * The parts of an entry are these from now on; those that are no longer are let go.
 * @param keepsReads a load goes on: its answer will be made of the entries that it has read
 */
function setParts(entry: Entry, parts: readonly Part[], keepsReads = false): void {
  const links = linksOf(entry);
  const read = links.partsRead;
  // An open stream goes on reading. Other entries that the load still reads are not among the dependencies.
  if (!entry.activity?.isOpen && !keepsReads) links.partsRead = [];
  const before = new Set([...links.parts, ...read].map((part) => part.entry));
  if (keepsReads) for (const part of read) before.delete(part.entry);
  links.parts = parts.map((part) => ({ ...part }));
  for (const part of links.parts) if (part.version === notRead) noteRead(part);
  links.madeFor = distinct(links.parts.flatMap((part) => part.madeFor));
  for (const part of parts) {
    linksOf(part.entry).dependents.add(entry);
    before.delete(part.entry);
  }
  for (const part of before) releasePart(part, entry);
  links.outdated = true;
  markDirty(entry);
  recheckParts(entry);
}

function noteRead(part: Part): void {
  noteValueRead(part);
  part.readAt = part.entry.shelf.core.version;
}

/** An entry that was restored is made of another: a change of that one reaches it. */
export function linkRestored(entry: Entry, part: Entry): void {
  const links = linksOf(entry);
  const { core } = part.shelf;
  links.parts.push({ entry: part, version: part.changedAt, readAt: core.version, madeFor: [] });
  linksOf(part).dependents.add(entry);
  links.outdated = true;
  markDirty(entry);
}

/**
 * Parts that changed, or were invalidated, since they were read are read again, and so are parts that are being brought up to
 * date. A part that could not be brought up to date is not: it would be asked for over and over.
 */
function recheckParts(entry: Entry): void {
  const again = linksOf(entry).parts.filter(
    ({ entry: part, version, readAt }) =>
      part.changedAt !== version || part.invalidatedAt > readAt || isBeingRevalidated(part),
  );
  if (again.length === 0) return;
  noteWave(entry, ...again.map((part) => part.entry));
  scheduleDependencyCheck(entry);
}

/** Whether a part that is stale through its own parts is being brought up to date, is about to be, or has not been tried. */
function isBeingRevalidated(part: Entry): boolean {
  const { core } = part.shelf;
  if (!isStaleThroughParts(part)) return false;
  const { wave, asked } = linksOf(part);
  return part.request !== undefined || core.pendingChecks.has(part) || wave > (asked[0]?.wave ?? 0);
}

/** A load has failed: the dependencies stay as they were. It is begun anew only for a change that it cannot have seen. */
function discardReads(entry: Entry, startVersion: number): void {
  const read = linksOf(entry).partsRead;
  const outrun = read.filter(
    ({ entry: part, version }) =>
      (version !== notRead && part.changedAt !== version) || part.invalidatedAt > startVersion,
  );
  forgetReads(entry);
  noteWave(entry, ...outrun.map((part) => part.entry));
  if (outrun.length > 0) scheduleDependencyCheck(entry);
}

/** The entries that an ended load has read are kept only where they are dependencies of the entry. */
function forgetReads(entry: Entry): void {
  const links = linksOf(entry);
  const { partsRead } = links;
  links.endWaits?.();
  links.partsRead = []; // another list, also where none was read: what the load that is over still reads is not noted
  if (partsRead.length === 0) return;
  const kept = new Set(links.parts.map((part) => part.entry));
  for (const part of partsRead) if (!kept.has(part.entry)) releasePart(part.entry, entry);
}

/**
 * After what an entry holds, or whether it is trusted, has changed: all that is made of it, directly or not, is reckoned
 * anew before it is next used, and looked at when this turn of the event loop ends.
 * @param event "same" where nothing is another than before (an equal answer, a failure): it is looked at only where a change
 * further below has been waiting for this end; else wholes that share a part would ask for it in turns, for ever
 */
function markDependentsOutdated(entry: Entry, event: "change" | "same"): void {
  const own = linksOf(entry);
  const isLookedAt = event === "change" || own.owesCheck;
  own.owesCheck = false;
  const wave = waveOf(entry);
  const { pendingChecks } = entry.shelf.core;
  const pending = [entry];
  for (let part = pending.pop(); part; part = pending.pop()) {
    for (const dependent of part.links?.dependents ?? []) {
      const links = linksOf(dependent);
      // Loaded for the first time, it is made of nothing yet; outdated and to be looked at already, so is all that is made of it.
      if (links.parts.length === 0 || (links.outdated && (!isLookedAt || pendingChecks.has(dependent)))) continue;
      links.wave = Math.max(links.wave, wave);
      const answerComes = links.partsStanding !== "none" && dependent.request !== undefined;
      links.outdated = true;
      if (answerComes) {
        links.owesCheck ||= isLookedAt; // it is in doubt, as all that is made of it: its own end tells what comes of that
        continue;
      }
      markDirty(dependent);
      if (isLookedAt) scheduleDependencyCheck(dependent);
      pending.push(dependent);
    }
  }
}

/** These parts have changed: their whole is to be brought up to date with the newest of these changes. */
function noteWave(entry: Entry, ...parts: readonly Entry[]): void {
  const links = linksOf(entry);
  links.wave = Math.max(links.wave, ...parts.map(waveOf));
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

/** Notes that an entry may be stale through its parts. It is checked once, in a microtask, after all changes of this go (rule D1). */
function scheduleDependencyCheck(entry: Entry): void {
  const { core } = entry.shelf;
  if (core.disposed) return;
  const { pendingChecks: checks } = core;
  if (checks.size === 0) queueMicrotask(() => core.disposed || flush(core, checks, revalidateIfPartsChanged));
  checks.add(entry);
}

/** Rule D1: an entry that is stale through its dependencies is revalidated if it is wanted. */
function revalidateIfPartsChanged(entries: readonly Entry[]): void {
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
    for (const { entry: part } of [...(entry.links?.parts ?? []), ...(ownLinks(entry)?.partsRead ?? [])])
      if (above.has(part)) wanted.add(part);
  return wanted;
}

/** Parts first, without recursion: chains of them may be thousands long. */
function recomputeOutdated(wanted: EntryLinks): void {
  const pending = [wanted];
  for (let links = pending.at(-1); links; links = pending.at(-1)) {
    if (links.outdated) {
      links.outdated = false; // before its parts: where they lead back here it ends
      for (const { entry } of links.parts) if (ownLinks(entry)?.outdated) pending.push(linksOf(entry));
    } else {
      recompute(links);
      pending.pop();
    }
  }
}

function recompute(links: EntryLinks): void {
  links.partsStanding = "none";
  links.staleAt = links.expiredAt = links.coveredUntil = Number.POSITIVE_INFINITY;
  links.noStore = links.mustRevalidate = false;
  for (const { entry, version } of links.parts) {
    // Not whether a dependency is for the present user: that may change without a sign, and is tested by `madeFor`.
    if (entry.isOutdated) links.partsStanding = "invalidated";
    else if (links.partsStanding === "none" && (entry.changedAt !== version || isDoubtful(entry)))
      links.partsStanding = "stale";
    links.staleAt = Math.min(links.staleAt, entry.staleAt);
    links.expiredAt = Math.min(links.expiredAt, entry.expiredAt);
    links.coveredUntil = Math.min(links.coveredUntil, entry.coveredUntil);
    links.noStore ||= entry.noStore;
    links.mustRevalidate ||= entry.mustRevalidate;
  }
}

/** Whether an entry is invalidated, or stale through parts of its own. */
export function isStaleThroughParts(entry: Entry): boolean {
  return entry.isInvalidated || isDoubtful(entry);
}

/** Whether an entry is stale, or invalidated, through parts of its own. */
function isDoubtful({ links }: Entry): boolean {
  return (links?.current().partsStanding ?? "none") !== "none";
}
