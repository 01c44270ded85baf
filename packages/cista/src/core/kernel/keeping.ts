/** How long entries are kept, and when each next needs looking after. Rules F3, F8. */

import type { Source } from "../api/source-contract.js";
import { freezeDeep } from "../lib/freeze.js";
import { lengthOf } from "../lib/intervals.js";
import { keyText } from "../lib/key.js";
import { batchNotifiedLater, markDirty, scheduleRelease } from "../state/batches.js";
import { type Core, nowOf, record } from "../state/core.js";
import { Entry } from "../state/entry.js";

/** The entry of these params, made where there is none. @throws CistaError codes "invalid-params", "not-a-source", "duplicate-source-name" */
export function getOrCreateEntry({ shelves }: Core, source: Source<any, any>, params: unknown): Entry {
  const shelf = shelves.of(source);
  const found = shelf.find(params);
  if (found) return found;
  const key = keyText(source.name, params);
  const spelledOtherwise = shelves.byKey.get(key);
  if (spelledOtherwise) return spelledOtherwise;
  const own = ownCopy(params);
  if (DEVELOPMENT) freezeDeep(own);
  const entry = new Entry(shelf, own, key);
  // Evictions for it are told of later: the caller is to use the entry before any listener acts.
  batchNotifiedLater(shelf.core, () => {
    shelf.add(entry);
    shelves.byKey.set(key, entry);
    reschedule(entry);
  });
  return entry;
}

/**
 * Rule *Keys and names*: neither an object that a program changes later, nor a framework's proxy, which changes with it and cannot be
 * frozen, gets under a key that is already made of the params.
 */
function ownCopy(params: unknown): unknown {
  if (typeof params !== "object" || params === null) return params;
  if (params instanceof Date) return new Date(params);
  if (params instanceof URL) return new URL(params);
  if ("toJSON" in params) return params;
  if (Array.isArray(params)) return params.map(ownCopy);
  const own: Record<string, unknown> = { ...params }; // takes less than one to which members are added
  for (const [name, value] of Object.entries(own)) {
    const copy = ownCopy(value);
    // An own member, so that even one named __proto__ sets no prototype.
    if (copy !== value) Object.defineProperty(own, name, { value: copy });
  }
  return own;
}

/** When an entry next needs looking after (rule F8). Of an idle one it is a use: it goes last among the idle. */
export function reschedule(entry: Entry): void {
  if (entry.isRemoved) return;
  const { core, settings } = entry.shelf;
  if (!entry.isIdle) {
    core.idle.remove(entry);
    const now = nowOf(core);
    const next = nextMoment(entry, now);
    core.schedule.set(entry, next, now);
    if (next <= now) core.overdue.add(entry);
    return;
  }
  // Its last use is now. While it is idle, its one moment is that of letting it go.
  const now = nowOf(core);
  core.schedule.set(entry, now + settings.retain, now);
  core.idle.add(entry);
  // The entry that is being used now goes last, and not before its user has had time to attach.
  if (core.idle.size > core.capacity && oldestIdle(core) === entry) scheduleRelease(entry);
  else evictOneBeyondCapacity(core);
}

/** Notes a use: an idle entry becomes the last of the idle ones. The end of the batch sets the moment of every other entry. */
export function noteUse(entry: Entry): void {
  if (entry.isIdle) reschedule(entry);
}

/** Evicts idle entries beyond the capacity. */
export function evictBeyondCapacity(core: Core): void {
  while (evictOneBeyondCapacity(core));
}

/** @returns whether there was one too many */
function evictOneBeyondCapacity(core: Core): boolean {
  const oldest = core.idle.size > core.capacity ? oldestIdle(core) : undefined;
  if (oldest) evict(oldest, "over capacity");
  return oldest !== undefined;
}

/** Who came to use an entry in the batch under way is taken note of here. */
function oldestIdle({ idle }: Core): Entry | undefined {
  while (idle.oldest && !idle.oldest.isIdle) idle.remove(idle.oldest);
  return idle.oldest;
}

/** Lets an entry go. */
export function evict(entry: Entry, note: string): void {
  const { core } = entry.shelf;
  core.idle.remove(entry);
  core.schedule.remove(entry);
  core.groups.move(entry, entry.groups, []);
  entry.links?.releaseDependencies();
  core.shelves.remove(entry);
  entry.releaseReferences();
  record("evict", entry, note);
}

/** Changes the held value of an entry, with the effects of that: its groups are filed anew, its watchers told. */
export function changeHeld(entry: Entry, change: () => void): void {
  const before = entry.groups;
  change();
  if (!entry.isRemoved) entry.shelf.core.groups.move(entry, before, entry.groups);
  markDirty(entry);
}

/** The next moment at which the reading of a watched entry may change by time alone, or at which it is to be requested. */
function nextMoment(entry: Entry, now: number): number {
  const { activity, shelf } = entry;
  let next = Number.POSITIVE_INFINITY;
  if (!activity || activity.watchers === 0) return next; // a request under way has timers of its own
  if (entry.held !== "none" && !entry.isOpen) {
    const { announcedStanding } = activity;
    next = dueAt(entry.staleAt, now, announcedStanding !== "fresh");
    next = Math.min(next, dueAt(entry.expiredAt, now, announcedStanding === "expired"));
    if (activity.failure) next = Math.min(next, dueAt(entry.coveredUntil, now, true));
  }
  const polls = shelf.settings.revalidateEvery !== Number.POSITIVE_INFINITY || activity.intervals !== undefined;
  // Paused while the page is hidden. An overdue poll is made at once when the page is visible again.
  if (polls && shelf.core.environment.visible && mayAskUnprompted(entry))
    next = Math.min(next, Math.max(now + 1, nextInterval(entry)));
  return next;
}

/** Whether time alone, or a trigger, may request an entry: it is watched, without a request, sign-out or write. Rules F3, W1. */
export function mayAskUnprompted(entry: Entry): boolean {
  const { activity } = entry;
  if (!activity || activity.requestingWatchers === 0) return false;
  return !activity.request && !activity.signedOut && !entry.waitsForWrite;
}

/** A moment that is to come; one that has passed is due now, unless it was told of already. */
function dueAt(moment: number, now: number, told: boolean): number {
  if (moment > now) return moment;
  return told ? Number.POSITIVE_INFINITY : now;
}

/** When `revalidateEvery` next asks: counted from when it was last asked for, or held, also by those who have left. */
export function nextInterval(entry: Entry): number {
  const activity = entry.active();
  return Math.max(activity.requestedAt, entry.storedAt) + shortestInterval(entry);
}

/** Of the source's own and those of the views that are attached. An interval that is made of the value needs one. */
function shortestInterval(entry: Entry): number {
  const { shelf, params, activity } = entry;
  const { revalidateEvery } = shelf.settings;
  const views = activity?.intervals;
  if (typeof revalidateEvery === "number" && !views?.size) return revalidateEvery; // the usual case
  const value = entry.held === "value" ? entry.shownValue : undefined;
  const own = lengthOf(revalidateEvery, value, params);
  return views ? Math.min(own, views.shortest(value, params)) : own;
}
