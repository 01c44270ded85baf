import type { Entry } from "../state/entry.js";
import { type Links, linksOf, type Part } from "../state/links.js";
import { doubt, touch } from "../state/turns.js";
import { file, release } from "./keeping.js";

/** The parts of an entry are these from now on; those that are no longer are let go. */
export function adoptParts(entry: Entry, parts: readonly Part[]): void {
  const { activity } = entry;
  const read = activity?.partsRead ?? [];
  if (activity) activity.partsRead = []; // what the load that is over still reads is not among them
  if (!entry.links && parts.length + read.length === 0) return;
  const links = linksOf(entry);
  const before = new Set([...links.parts, ...read].map((part) => part.entry));
  links.parts = parts;
  for (const part of parts) {
    linksOf(part.entry).dependents.add(entry);
    before.delete(part.entry);
  }
  for (const part of before) release(part, entry);
  reviewOne(entry);
  // What changed while it was being read is read again; what could not be brought up to date is not asked for over and over.
  const again = parts.some(
    (part) => part.entry.changedAt !== part.version || (isDoubtful(part.entry) && !part.entry.activity?.failure),
  );
  if (again) doubt(entry);
}

/** After what an entry holds, or whether it is trusted, has changed: what that means for all that is made of it. */
export function review(entry: Entry): void {
  for (const dependent of entry.links?.dependents ?? []) {
    const changed = reviewOne(dependent);
    if (dependent.links?.doubt !== "none") doubt(dependent);
    if (changed) review(dependent);
  }
}

/** What an entry's parts make of it now. Says whether that changed. */
function reviewOne(entry: Entry): boolean {
  const links = entry.links;
  if (!links) return false;
  const doubt = doubtOf(links);
  let same = doubt === links.doubt;
  links.doubt = doubt;
  for (const moment of ["staleAt", "expiredAt", "coveredUntil"] as const) {
    const narrowest = links.parts.reduce(
      (least, { entry }) => Math.min(least, entry[moment]),
      Number.POSITIVE_INFINITY,
    );
    same &&= narrowest === links[moment];
    links[moment] = narrowest;
  }
  if (same) return false;
  touch(entry);
  if (!entry.isIdle) file(entry);
  return true;
}

function doubtOf({ parts }: Links): Links["doubt"] {
  let doubt: Links["doubt"] = "none";
  for (const { entry, version } of parts) {
    if (entry.isInvalidated) return "invalidated";
    if (entry.changedAt !== version || isDoubtful(entry)) doubt = "stale";
  }
  return doubt;
}

function isDoubtful(entry: Entry): boolean {
  return entry.isInvalidated || (entry.links !== undefined && entry.links.doubt !== "none");
}
