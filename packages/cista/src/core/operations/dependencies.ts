/** What an entry is made of, and what follows for the whole when a part changes. Rule D1. */
import { markDirty, scheduleDependencyCheck } from "../state/batches.js";
import type { Entry } from "../state/entry.js";
import { distinct, isStaleThroughParts, linksOf, noteValueRead, notRead, type Part } from "../state/links.js";
import { releasePart } from "./keeping.js";

/** The parts of an entry are these from now on; those that are no longer are let go. */
export function setParts(entry: Entry, parts: readonly Part[]): void {
  const { activity } = entry;
  const read = activity?.partsRead ?? [];
  // A stream that is open goes on reading; what else the load still reads is not among the parts.
  if (activity && !activity.isOpen) activity.partsRead = [];
  if (!entry.links && parts.length + read.length === 0) return;
  const links = linksOf(entry);
  const before = new Set([...links.parts, ...read].map((part) => part.entry));
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
export function recheckParts(entry: Entry): void {
  const again = entry.links?.parts.some(
    ({ entry: part, version, readAt }) =>
      part.changedAt !== version || part.invalidatedAt > readAt || isBeingRevalidated(part),
  );
  if (again) scheduleDependencyCheck(entry);
}

/** Whether a part that is stale through its own parts is being brought up to date, or is about to be. */
function isBeingRevalidated(part: Entry): boolean {
  const { core } = part.shelf;
  return (part.request !== undefined || core.pendingChecks.has(part)) && isStaleThroughParts(part);
}

/** A load has failed: the parts stay as they were. It is begun anew only for what it cannot have seen. */
export function discardReads(entry: Entry, startVersion: number): void {
  const read = entry.activity?.partsRead ?? [];
  const outrun = read.some(
    ({ entry: part, version }) =>
      (version !== notRead && part.changedAt !== version) || part.invalidatedAt > startVersion,
  );
  forgetReads(entry);
  if (outrun) scheduleDependencyCheck(entry);
}

/** What a load that is over has read is not kept for it any more, but for what the entry is made of. */
export function forgetReads(entry: Entry): void {
  const { activity, links } = entry;
  if (!activity) return;
  const { partsRead } = activity;
  activity.partsRead = []; // another list, also where none was read: what the load that is over still reads is not noted
  if (partsRead.length === 0) return;
  const kept = new Set(links?.parts.map((part) => part.entry));
  for (const part of partsRead) if (!kept.has(part.entry)) releasePart(part.entry, entry);
}

/**
 * After what an entry holds, or whether it is trusted, has changed: all that is made of it, directly or not, is reckoned
 * anew before it is next used, and looked at when this turn of the event loop ends.
 * @param event "same" where nothing is another than before (an equal answer, a failure): it is looked at only where a change
 * further below has been waiting for this end; else wholes that share a part would ask for it in turns, for ever
 */
export function markDependentsOutdated(entry: Entry, event: "change" | "same" = "change"): void {
  const isLookedAt = event === "change" || (entry.links?.owesCheck ?? false);
  if (entry.links) entry.links.owesCheck = false;
  const pending = [entry];
  for (let part = pending.pop(); part; part = pending.pop()) {
    for (const dependent of part.links?.dependents ?? []) {
      const links = linksOf(dependent);
      // Loaded for the first time, it is made of nothing yet; outdated already, so is all that is made of it.
      if (links.parts.length === 0 || links.outdated) continue;
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

/** Whether something that is made of an entry, directly or not, is watched, or is being loaded. */
export function isWantedAbove(entry: Entry): boolean {
  const above = new Set([entry]);
  for (const { links } of above) {
    for (const dependent of links?.dependents ?? []) {
      if (dependent.request || (dependent.activity?.requestingWatchers ?? 0) > 0) return true;
      above.add(dependent);
    }
  }
  return false;
}
