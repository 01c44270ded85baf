/** Which entries an entry was made of, and what follows for its lifetime. Rules D2, F9. */
import type { Entry } from "./entry.js";

/** An answer that a whole was made of, and for whom it was: what was noted of the request (rule F9). */
export interface MadeFor {
  /** The source's name. */
  readonly source: string;
  readonly params: unknown;
  readonly varies: Record<string, string>;
}

/** One entry that was read while loading another. */
export interface Part {
  readonly entry: Entry;
  /** The version of the value that was read; `notRead` while it is still waited for. */
  version: number;
  /** The cache's version when it was read last. */
  readAt: number;
  /** For whom the value was that was read. */
  madeFor: readonly MadeFor[];
}

export const notRead: number = -1;

const forAll: readonly MadeFor[] = [];

/** Notes that a load has read a part's value as it is now. */
export function noteValueRead(part: Part): void {
  part.version = part.entry.changedAt;
  part.madeFor = madeForOf(part.entry);
}

/** For whom an entry's value is: its own answer, and those that it was made of. */
export function madeForOf({ shelf, params, extra, links }: Entry): readonly MadeFor[] {
  const below = links?.madeFor ?? forAll;
  return extra?.varies ? [{ source: shelf.source.name, params, varies: extra.varies }, ...below] : below;
}

/** Of several answers of one source that were for the same user, one is enough to be compared. */
export function distinct(all: readonly MadeFor[]): readonly MadeFor[] {
  if (all.length < 2) return all;
  return [...new Map(all.map((one) => [JSON.stringify([one.source, one.varies]), one])).values()];
}

/** Which entries an entry was made of, and which were made of it. */
export class Links {
  /** In the order in which they were first read. */
  parts: Part[] = [];
  readonly dependents: Set<Entry> = new Set();
  /** For whom the value is, by what it was made of (rule F9). */
  madeFor: readonly MadeFor[] = forAll;
  /** Whether a part has changed since the members below were computed; `currentLinks` computes them before they are used. */
  outdated = false;
  /** Whether a part changed while this entry's own request was under way: its dependents are checked when that request ends. */
  owesCheck = false;
  /** Whether the entry is stale, or invalidated, through its parts alone. */
  partsStanding: "none" | "stale" | "invalidated" = "none";
  /** Rule D2: the earliest of its parts' moments: when they turn stale, expire, and no longer cover a failure. */
  staleAt: number = Number.POSITIVE_INFINITY;
  expiredAt: number = Number.POSITIVE_INFINITY;
  coveredUntil: number = Number.POSITIVE_INFINITY;
  /** Rule D2: whether one of its parts is `noStore`, or `mustRevalidate`. */
  noStore = false;
  mustRevalidate = false;
}

export function linksOf(entry: Entry): Links {
  entry.links ??= new Links();
  return entry.links;
}

/** The links of an entry, brought up to date. */
export function currentLinks({ links }: Entry): Links | undefined {
  if (links?.outdated) recomputeOutdated(links);
  return links;
}

/** Parts first, without recursion: chains of them may be thousands long. */
function recomputeOutdated(wanted: Links): void {
  const pending = [wanted];
  for (let links = pending.at(-1); links; links = pending.at(-1)) {
    if (links.outdated) {
      links.outdated = false; // before its parts: where they lead back here it ends
      for (const { entry } of links.parts) if (entry.links?.outdated) pending.push(entry.links);
    } else {
      recompute(links);
      pending.pop();
    }
  }
}

function recompute(links: Links): void {
  links.partsStanding = "none";
  links.staleAt = links.expiredAt = links.coveredUntil = Number.POSITIVE_INFINITY;
  links.noStore = links.mustRevalidate = false;
  for (const { entry, version } of links.parts) {
    if (entry.isInvalidated) links.partsStanding = "invalidated";
    else if (links.partsStanding === "none" && (entry.changedAt !== version || isStaleThroughParts(entry)))
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
  return entry.isInvalidated || (currentLinks(entry)?.partsStanding ?? "none") !== "none";
}
