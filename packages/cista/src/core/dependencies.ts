import { ask, start } from "./asking.js";
import type { LoadMode } from "./contract.js";
import { type Core, nowOf, touch, turn } from "./core.js";
import type { Entry } from "./entry.js";
import { CistaError, Failure } from "./failure.js";
import { file } from "./keeping.js";
import { hitOf, untilAborted } from "./reader.js";
import type { Request } from "./request.js";
import { leave } from "./watching.js";

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

/** The load that reads, so that what it still does when it is over is nobody's business. */
export interface PartReader {
  readonly dependent: Entry;
  readonly request: Request;
  readonly signal: AbortSignal;
  /** What this try has read so far. */
  readonly parts: Part[];
}

/** A dependent's load reads a part: revalidated first and waited for unless it is fresh (rule D2). */
export async function readPart({ dependent, request, signal, parts }: PartReader, part: Entry): Promise<unknown> {
  signal.throwIfAborted();
  refuseRing(dependent, part);
  const activity = dependent.active();
  const { asked, mode } = activity;
  const read: Part = { entry: part, version: -1 };
  parts.push(read);
  if (parts === activity.partsRead) linksOf(part).dependents.add(dependent); // kept: nothing lets go of what is being read
  file(part);
  activity.awaited.add(part);
  request.pause();
  try {
    return await broughtUpToDate(part, asked, mode, signal);
  } catch (thrown) {
    if (thrown instanceof Failure) activity.passedOn.add(thrown);
    throw thrown;
  } finally {
    read.version = part.changedAt;
    activity.awaited.delete(part);
    request.resume();
  }
}

/** Rule D3: what a person asks for goes all the way down in the same mode, to each part once. */
function broughtUpToDate(part: Entry, asked: number, mode: LoadMode, signal: AbortSignal): Promise<unknown> {
  const { core } = part.shelf;
  const known = part.isFresh(nowOf(core)) && (part.version >= asked || (part.policy.immutable && mode !== "reload"));
  if (known) return hitOf(part);
  const waiters = turn(core, () => ask(part, asked > 0 ? "asked" : "dependency", asked > 0 ? mode : undefined, asked));
  return untilAborted(part, waiters.value, signal);
}

/**
 * Rule D1: brings the parts of what is stale only through them up to date, in the order in which they were read.
 * False at the first that is another than it was.
 */
export async function partsHold(entry: Entry, request: Request): Promise<boolean> {
  const { signal } = request;
  for (const part of entry.links?.parts ?? []) {
    signal.throwIfAborted();
    entry.active().awaited.add(part.entry);
    request.pause();
    try {
      await broughtUpToDate(part.entry, 0, "default", signal);
    } catch {
      // That it failed, or is missing, is a matter for the load, if its version changed by it.
    } finally {
      entry.active().awaited.delete(part.entry);
      request.resume();
    }
    if (part.entry.changedAt !== part.version) return false;
  }
  return true;
}

/** The parts of an entry are these from now on; those that are no longer are let go. */
export function adoptParts(entry: Entry, parts: readonly Part[]): void {
  if (!entry.links && parts.length === 0 && !entry.activity?.partsRead.length) return;
  const links = linksOf(entry);
  const before = new Set([...links.parts, ...(entry.activity?.partsRead ?? [])].map((part) => part.entry));
  links.parts = parts;
  if (entry.activity) entry.activity.partsRead = [];
  for (const part of parts) {
    linksOf(part.entry).dependents.add(entry);
    before.delete(part.entry);
  }
  for (const part of before) {
    part.links?.dependents.delete(entry);
    leave(part);
  }
  reviewOne(entry);
  // What changed while it was being read is read again; what could not be brought up to date is not asked for over and over.
  const again = parts.some(
    (part) => part.entry.changedAt !== part.version || (isDoubtful(part.entry) && !part.entry.activity?.failure),
  );
  if (again) revalidateSoon(entry);
}

/** After what an entry holds, or whether it is trusted, has changed: what that means for all that is made of it. */
export function review(entry: Entry): void {
  for (const dependent of entry.links?.dependents ?? []) {
    const changed = reviewOne(dependent);
    if (dependent.links?.doubt !== "none") revalidateSoon(dependent);
    if (changed) review(dependent);
  }
}

/** What an entry's parts make of it now. Says whether that changed. */
function reviewOne(entry: Entry): boolean {
  const links = entry.links;
  if (!links) return false;
  const { doubt, staleAt, expiredAt, coveredUntil } = links;
  links.doubt = doubtOf(links);
  links.staleAt = narrowest(links, (part) => part.staleAt);
  links.expiredAt = narrowest(links, (part) => part.expiredAt);
  links.coveredUntil = narrowest(links, (part) => part.coveredUntil);
  const same = doubt === links.doubt && staleAt === links.staleAt && expiredAt === links.expiredAt;
  if (same && coveredUntil === links.coveredUntil) return false;
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

function narrowest({ parts }: Links, moment: (part: Entry) => number): number {
  return parts.reduce((least, part) => Math.min(least, moment(part.entry)), Number.POSITIVE_INFINITY);
}

/** Once, after all that changed in the same turn of the event loop. */
function revalidateSoon(entry: Entry): void {
  const { core } = entry.shelf;
  if (core.doubted.size === 0) queueMicrotask(() => revalidateDoubted(core));
  core.doubted.add(entry);
}

function revalidateDoubted(core: Core): void {
  const doubted = [...core.doubted];
  core.doubted.clear();
  turn(core, () => {
    for (const entry of doubted) {
      const doubts = entry.links?.doubt !== "none" && !entry.gone && !entry.request;
      if (doubts && isWanted(entry)) start(entry, "dependency");
    }
  });
}

/** Watched by a component, or by a dependent that is. */
function isWanted(entry: Entry): boolean {
  if ((entry.activity?.askers ?? 0) > 0) return true;
  return [...(entry.links?.dependents ?? [])].some(isWanted);
}

function linksOf(entry: Entry): Links {
  entry.links ??= new Links();
  return entry.links;
}

/** Rule D4: a load that waits for what waits for it would wait for ever. */
function refuseRing(dependent: Entry, part: Entry): void {
  const ring = pathTo(dependent, part, []);
  if (!ring) return;
  const keys = [dependent, ...ring].map(({ key }) => key).join(" → ");
  throw new CistaError(
    "ring",
    `A load reads what is made of itself: ${keys}. Read something else, or put the common part into a source of its own.`,
  );
}

function pathTo(wanted: Entry, from: Entry, path: Entry[]): Entry[] | undefined {
  if (path.includes(from)) return undefined;
  const here = [...path, from];
  if (from === wanted) return here;
  for (const next of from.activity?.awaited ?? []) {
    const found = pathTo(wanted, next, here);
    if (found) return found;
  }
  return undefined;
}
