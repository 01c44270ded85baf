import type { Entry } from "./entry.js";

/** One entry that was read while loading another. */
export interface Part {
  readonly entry: Entry;
  /** The version of its value then; of one still waited for, that of no value. */
  version: number;
}

/** Which entries an entry was made of, and which were made of it. */
export class Links {
  /** In the order in which they were read. */
  parts: readonly Part[] = [];
  readonly dependents: Set<Entry> = new Set();
  /** Whether it is stale, or invalidated, through its parts alone: follows from them (see `review`). */
  doubt: "none" | "stale" | "invalidated" = "none";
  /** Rule D2: it is fresh no longer, and may be shown no further, than its narrowest part. */
  staleAt: number = Number.POSITIVE_INFINITY;
  expiredAt: number = Number.POSITIVE_INFINITY;
  coveredUntil: number = Number.POSITIVE_INFINITY;
}

export function linksOf(entry: Entry): Links {
  entry.links ??= new Links();
  return entry.links;
}
