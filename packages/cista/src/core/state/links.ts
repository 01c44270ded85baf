import type { Entry } from "./entry.js";

/** One entry that was read while loading another. */
export interface Part {
  readonly entry: Entry;
  /** The version of the value that was read; `notRead` while it is still waited for. */
  version: number;
  /** The cache's version when it was read last. */
  readAt: number;
}

export const notRead: number = -1;

/** Which entries an entry was made of, and which were made of it. */
export class Links {
  /** In the order in which they were first read. */
  parts: readonly Part[] = [];
  readonly dependents: Set<Entry> = new Set();
  /** Something of a part has changed: what follows below is to be reckoned anew before it is used. */
  outdated = false;
  /** Something below changed while its own request was under way: what is made of it is looked at when that ends. */
  owesCheck = false;
  /** Whether it is stale, or invalidated, through its parts alone. */
  partsStanding: "none" | "stale" | "invalidated" = "none";
  /** Rule D2: it is fresh no longer, and may be shown no further, than its narrowest part. */
  staleAt: number = Number.POSITIVE_INFINITY;
  expiredAt: number = Number.POSITIVE_INFINITY;
  coveredUntil: number = Number.POSITIVE_INFINITY;
  /** Rule D2: what a part forbids is forbidden for the whole. */
  noStore = false;
  mustRevalidate = false;
}

export function linksOf(entry: Entry): Links {
  entry.links ??= new Links();
  return entry.links;
}

/** What an entry's parts make of it now. */
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

/** Stale through its own parts, or not to be trusted. */
export function isStaleThroughParts(entry: Entry): boolean {
  return entry.isInvalidated || (currentLinks(entry)?.partsStanding ?? "none") !== "none";
}
