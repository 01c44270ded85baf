/** Watchers come and go, time passes, the page is looked at again. Rules F2, F3, F10, R3, D1. */
import type { Cause } from "../api/journal.js";
import type { IntervalOf, Trigger } from "../api/settings.js";
import { Intervals } from "../lib/intervals.js";
import { batch, markDirty, markUsed, scheduleRelease } from "../state/batches.js";
import { type Core, nowOf, record } from "../state/core.js";
import type { Entry } from "../state/entry.js";
import { abandonRequest, requestIfWatched, startRequest, wantsRequest } from "./asking.js";
import { changeHeld, evict, evictBeyondCapacity, mayAskUnprompted, nextInterval, reschedule } from "./keeping.js";
import { isReadingCurrent } from "./looking.js";

/** The shortest way: joins the watchers of a fresh entry. @returns whether it could */
export function joinWatchers(entry: Entry, mayRequest: boolean): boolean {
  const { activity } = entry;
  if (!activity || activity.requestingWatchers === 0 || activity.signedOut) return false;
  if (!entry.reading?.fresh || !entry.fits) return false;
  const { core } = entry.shelf;
  if (core.journal?.hears("attach") || (core.lastFoundFresh !== entry && !isFreshNow(entry, core))) return false;
  activity.watchers++;
  if (mayRequest) activity.requestingWatchers++;
  return true;
}

/** By the clock, which is read once for all who join it in one go: its timer may ring late. */
function isFreshNow(entry: Entry, core: Core): boolean {
  if (entry.staleAt <= nowOf(core)) return false;
  if (!core.lastFoundFresh) {
    queueMicrotask(() => {
      core.lastFoundFresh = undefined;
    });
  }
  core.lastFoundFresh = entry;
  return true;
}

/** A view attaches. @param mayRequest false for one that starts nothing by itself */
export function attach(entry: Entry, mayRequest: boolean): void {
  const activity = entry.active();
  const { core } = entry.shelf;
  const now = nowOf(core);
  const first = activity.watchers === 0;
  if (first) {
    activity.announcedStanding = activity.staleOnArrival || entry.held === "none" ? "expired" : entry.ageing(now);
    core.watched.add(entry);
    if (core.watched.size === 1) core.schedule.check();
  }
  activity.watchers++;
  if (mayRequest) {
    activity.requestingWatchers++;
    activity.signedOut = false;
  }
  if (first && isReadingCurrent(entry, now)) markUsed(entry);
  else if (first || (mayRequest && activity.requestingWatchers === 1) || !entry.fits) markDirty(entry);
  record("attach", entry, mayRequest, now);
  if (mayRequest && activity.request) activity.request.hasLatecomers = true;
  else if (mayRequest && wantsRequest(entry, now) && !core.interception?.takeKnown(entry, "attach"))
    startRequest(entry, "attach");
}

export function detach(entry: Entry, couldRequest: boolean): void {
  const { activity } = entry;
  const { core } = entry.shelf;
  if (!activity || core.disposed) return;
  activity.watchers--;
  if (couldRequest) activity.requestingWatchers--;
  record("detach", entry);
  if (activity.watchers === 0) scheduleRelease(entry);
  else if (couldRequest && activity.requestingWatchers === 0) reschedule(entry);
}

/** A view with an interval of its own has attached. */
export function addInterval(entry: Entry, interval: number | IntervalOf): void {
  const activity = entry.active();
  activity.intervals ??= new Intervals();
  activity.intervals.add(interval, entry.params);
  batch(entry.shelf.core, () => reschedule(entry));
}

/** It has left. If its interval was the shortest, that is found when the moment comes. */
export function removeInterval({ activity }: Entry, interval: number | IntervalOf): void {
  activity?.intervals?.remove(interval);
}

/** The single step by which entries are left: one macrotask after the last one went (rule R3). */
export function releaseUnused(core: Core, entries: readonly Entry[]): void {
  const isLeft = entries.filter(releaseEntry).some(({ links }) => links);
  evictBeyondCapacity(core);
  if (!isLeft) return;
  // Requests for dependencies went on for a composite. That composite may be among those that were left.
  for (const entry of core.underWay) if (entry.watchers === 0 && entry.links?.dependents.size) scheduleRelease(entry);
}

/** @returns whether it is unused */
function releaseEntry(entry: Entry): boolean {
  const { activity } = entry;
  if (entry.watchers > 0) return false;
  entry.shelf.core.watched.delete(entry);
  if (activity) activity.isDisplayed = activity.staleOnArrival = false;
  if (activity?.readers) return false;
  if (activity?.request) {
    if (activity.isPinned || entry.links?.isWantedAbove()) return false; // prefetched, or somebody waits for good: it runs on
    abandonRequest(entry, "nobody waits for it any more");
  }
  if (entry.links?.dependents.size) return true; // something that is kept is made of it
  if (activity) {
    activity.layers?.removeSettled("lifted: nobody watches");
  }
  if (entry.isRemoved || (entry.noStore && entry.held !== "none" && !activity?.hasLayers)) {
    // RFC 9111 §5.2.2.5: dropped as soon as it is unused, with its dependencies.
    changeHeld(entry, () => entry.forget());
    entry.links?.dropDependencies();
  }
  if (!activity?.failure && !activity?.hasLayers) {
    entry.activity = undefined;
    entry.reading = undefined;
  }
  reschedule(entry);
  return true;
}

// ── Time ─────────────────────────────────────────────────────────────────────

/** Its moment has come. */
export function onDue(entry: Entry): void {
  if (entry.isRemoved) return;
  if (entry.isIdle) evict(entry, "unused for as long as it is retained");
  else if (entry.watchers > 0) advanceAge(entry, nowOf(entry.shelf.core));
}

/** A watched entry has grown older. */
function advanceAge(entry: Entry, now: number): void {
  const activity = entry.active();
  markDirty(entry);
  const standing = entry.held === "none" || activity.staleOnArrival ? "expired" : entry.ageing(now);
  const announced = activity.announcedStanding;
  activity.announcedStanding = standing;
  if (standing !== "fresh" && announced === "fresh") record("stale", entry);
  if (standing === "expired" && announced !== "expired") {
    record("expire", entry);
    requestUnprompted(entry, "expired");
  }
  if (now < nextInterval(entry)) return;
  activity.intervals?.forget(); // a view may have left, and a function may say something else by now
  if (now >= nextInterval(entry)) requestUnprompted(entry, "interval");
}

/** After the last write on an entry has ended: does the revalidation that was put off meanwhile. */
export function resumeAfterWrites(entry: Entry): void {
  if (entry.shelf.core.disposed) return;
  if (entry.watchers === 0) scheduleRelease(entry);
  else if (entry.isInvalidated) requestIfWatched(entry);
  else if (entry.ageing(nowOf(entry.shelf.core)) === "expired" && !entry.activity?.staleOnArrival)
    requestUnprompted(entry, "expired");
  markDirty(entry);
}

/** Rule F3: by itself the cache asks only while the page is visible; else when it is visible again. */
function requestUnprompted(entry: Entry, cause: Cause): void {
  if (!mayAskUnprompted(entry)) return;
  if (entry.shelf.core.environment.visible) startRequest(entry, cause);
  else if (cause === "expired") entry.active().expiredWhileHidden = true;
}

// ── The page ─────────────────────────────────────────────────────────────────

/** Revalidates when the page becomes visible or the network comes back, until the returned function is called. */
export function followEnvironment(core: Core): () => void {
  const { environment } = core;
  let { visible, online } = environment;
  /** The network came back while the page was hidden. */
  let missed = false;
  return environment.subscribe(() => {
    const before = { visible, online };
    ({ visible, online } = environment);
    core.schedule.check(); // the machine may have slept meanwhile
    const back = online && !before.online;
    if (back) revalidateOnTrigger(core, "online");
    missed = online && (missed || (back && !visible));
    if (!visible || before.visible) return;
    revalidateOnTrigger(core, "visible");
    if (missed) revalidateOnTrigger(core, "online");
    missed = false;
  });
}

/** The page is looked at again, or the network is back. */
function revalidateOnTrigger(core: Core, trigger: Exclude<Trigger, "attach">): void {
  batch(core, () => {
    const now = nowOf(core);
    core.outbox?.wake();
    for (const entry of [...core.underWay]) entry.request?.hurry();
    if (!core.environment.visible) return; // nobody looks: what is stale is asked for when somebody does
    for (const entry of [...core.watched]) revalidateEntryOnTrigger(entry, trigger, now);
  });
}

function revalidateEntryOnTrigger(entry: Entry, trigger: Exclude<Trigger, "attach">, now: number): void {
  const { activity } = entry;
  if (!activity || !mayAskUnprompted(entry)) return;
  const wanted = entry.shelf.settings.triggers.includes(trigger) && !entry.isFresh(now);
  if (wanted) startRequest(entry, trigger);
  else if (activity.expiredWhileHidden && trigger === "visible") startRequest(entry, "expired");
  if (trigger === "visible") activity.expiredWhileHidden = false;
  reschedule(entry);
}
