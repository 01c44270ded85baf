import { type Cause, forwardStatus, hitStatus } from "../ground/journal.js";
import type { Trigger } from "../ground/settings.js";
import { type Core, nowOf, record } from "../state/core.js";
import type { Entry } from "../state/entry.js";
import { currentLinks } from "../state/links.js";
import { leave, touch, turn } from "../state/turns.js";
import { giveUp, start } from "./asking.js";
import { askWatched } from "./changing.js";
import { setParts } from "./dependencies.js";
import { changeHeld, evict, file, nextInterval, trim } from "./keeping.js";
import { holdsStill, lift } from "./layers.js";

/** The shortest way: what others watch, and is fresh, is joined without further ado. Says whether that was so. */
export function joinWatchers(entry: Entry, asks: boolean): boolean {
  const { activity } = entry;
  if (!activity || activity.askers === 0 || activity.signedOut || !entry.reading?.fresh) return false;
  const { core } = entry.shelf;
  if (core.recorder.hears("attach") || (core.foundFresh !== entry && !isFreshNow(entry, core))) return false;
  activity.watchers++;
  if (asks) activity.askers++;
  return true;
}

/** By the clock, which is read once for all who join it in one go: its timer may ring late. */
function isFreshNow(entry: Entry, core: Core): boolean {
  if (entry.staleAt <= nowOf(core)) return false;
  if (!core.foundFresh) {
    queueMicrotask(() => {
      core.foundFresh = undefined;
    });
  }
  core.foundFresh = entry;
  return true;
}

/**
 * A view attaches.
 * @param asks false for one that starts nothing by itself
 * @param asksNow false for one that has been satisfied already
 */
export function attach(entry: Entry, asks: boolean, asksNow: boolean = asks): void {
  const activity = entry.active();
  const { core } = entry.shelf;
  const now = nowOf(core);
  const first = activity.watchers === 0;
  if (first) {
    activity.passed = activity.cameStale || entry.held === "none" ? "expired" : entry.ageing(now);
    core.watched.add(entry);
  }
  activity.watchers++;
  if (asks) {
    activity.askers++;
    activity.signedOut = false;
  }
  if (first) touch(entry);
  record("attach", entry, () => ({ cause: "attach", cacheStatus: attachStatus(entry, asks, now) }));
  if (asksNow && !activity.request && wantsRequest(entry, now)) start(entry, "attach");
  else if (first || (asks && activity.askers === 1)) file(entry);
}

export function detach(entry: Entry, asked: boolean): void {
  const { activity } = entry;
  const { core } = entry.shelf;
  if (!activity || core.disposed) return;
  activity.watchers--;
  if (asked) activity.askers--;
  if (core.recorder.hears("detach")) record("detach", entry);
  if (activity.watchers === 0) leave(entry);
  else if (asked && activity.askers === 0) file(entry);
}

/** The single step by which an entry is left: one macrotask after the last one went (rule R3). */
export function settleLeft(entry: Entry): void {
  settleOne(entry);
  trim(entry.shelf.core);
}

function settleOne(entry: Entry): void {
  const { activity } = entry;
  if (entry.watchers > 0) return;
  entry.shelf.core.watched.delete(entry);
  if (activity) activity.shown = activity.cameStale = false;
  if (activity?.readers || entry.links?.dependents.size) return;
  if (activity) {
    if (activity.request && !activity.isPinned) giveUp(entry, "nobody waits for it any more");
    if (activity.request) return; // prefetched, or somebody waits for good: it runs on
    lift(entry, ({ write }) => write.settledAt > 0, "lifted: nobody watches");
  }
  if (entry.gone || (entry.noStore && entry.held !== "none" && !activity?.hasLayers)) {
    // RFC 9111 §5.2.2.5: dropped as soon as nobody needs it, with what it was made of.
    changeHeld(entry, () => entry.forget());
    setParts(entry, []);
  }
  if (!activity?.failure && !activity?.hasLayers) {
    entry.activity = undefined;
    entry.reading = undefined;
  }
  file(entry);
}

// ── Time ─────────────────────────────────────────────────────────────────────

/** Its moment has come. */
export function comeDue(entry: Entry): void {
  if (entry.gone) return;
  if (entry.isIdle) evict(entry, "unused for as long as it is retained");
  else if (entry.watchers > 0) grow(entry, nowOf(entry.shelf.core));
}

/** A watched entry has grown older. */
function grow(entry: Entry, now: number): void {
  const activity = entry.active();
  touch(entry);
  const standing = entry.held === "none" || activity.cameStale ? "expired" : entry.ageing(now);
  const { passed } = activity;
  activity.passed = standing;
  if (standing !== "fresh" && passed === "fresh") record("stale", entry);
  if (standing === "expired" && passed !== "expired") {
    record("expire", entry);
    askByItself(entry, "expired");
  }
  if (now >= nextInterval(entry, now)) askByItself(entry, "interval");
  file(entry);
}

/** After the last write on it has ended: what was put off meanwhile. */
export function catchUp(entry: Entry): void {
  if (entry.shelf.core.disposed) return;
  if (entry.watchers === 0) leave(entry);
  else if (entry.isInvalidated) askWatched(entry);
  else if (entry.ageing(nowOf(entry.shelf.core)) === "expired" && !entry.activity?.cameStale)
    askByItself(entry, "expired");
  file(entry);
}

/** Rule F3: by itself the cache asks only while somebody looks; else when somebody does again. */
function askByItself(entry: Entry, cause: Cause): void {
  const activity = entry.active();
  if (activity.askers === 0 || activity.request || activity.signedOut || holdsStill(entry)) return;
  if (entry.shelf.core.environment.visible) start(entry, cause);
  else if (cause === "expired") activity.owed = true;
}

/** Rule D1: what is stale through its parts is revalidated where somebody wants it. */
export function settleDoubts(entries: readonly Entry[]): void {
  const doubtful = entries.filter((entry) => !entry.gone && (currentLinks(entry)?.doubt ?? "none") !== "none");
  for (const entry of entries) if (!entry.gone && entry.noStore && entry.watchers === 0) leave(entry);
  const wanted = wantedAmong(doubtful);
  for (const entry of doubtful) if (wanted.has(entry) && !entry.request) start(entry, "dependency");
}

/** Those that a component watches, or that something is made of, directly or not, that one watches: each looked at once. */
function wantedAmong(entries: readonly Entry[]): ReadonlySet<Entry> {
  const above = new Set(entries);
  for (const { links } of above) for (const dependent of links?.dependents ?? []) above.add(dependent);
  const wanted = new Set<Entry>();
  for (const entry of above) if ((entry.activity?.askers ?? 0) > 0 && !entry.activity?.signedOut) wanted.add(entry);
  for (const { links } of wanted)
    for (const { entry: part } of links?.parts ?? []) if (above.has(part)) wanted.add(part);
  return wanted;
}

// ── The page ─────────────────────────────────────────────────────────────────

/** The page is looked at again, or the network is back. */
export function wake(core: Core, trigger: Exclude<Trigger, "attach">): void {
  turn(core, () => {
    const now = nowOf(core);
    core.outbox?.wake();
    for (const entry of [...core.underWay]) entry.request?.hurry();
    if (!core.environment.visible) return; // nobody looks: what is stale is asked for when somebody does
    for (const entry of [...core.watched]) wakeOne(entry, trigger, now);
  });
}

function wakeOne(entry: Entry, trigger: Exclude<Trigger, "attach">, now: number): void {
  const { activity } = entry;
  if (!activity || activity.request || activity.askers === 0 || activity.signedOut || holdsStill(entry)) return;
  const wanted = entry.shelf.settings.triggers.includes(trigger) && !entry.isFresh(now);
  if (wanted) start(entry, trigger);
  else if (activity.owed && trigger === "visible") start(entry, "expired");
  if (trigger === "visible") activity.owed = false;
  file(entry);
}

/** Whether a newcomer that may ask starts a request (rule F2). A failure is no reason to be content. */
export function wantsRequest(entry: Entry, now: number): boolean {
  if (entry.held === "none") return true;
  const standing = entry.standing(now);
  if ((standing === "stale" || entry.activity?.shown) && holdsStill(entry)) return false;
  if (standing === "stale") return entry.shelf.settings.triggers.includes("attach");
  return standing !== "fresh";
}

function attachStatus(entry: Entry, asks: boolean, now: number): string {
  if (entry.isUsable(now)) return hitStatus(entry.staleAt - now);
  if (!asks) return forwardStatus("bypass", { detail: "starts-nothing" });
  return forwardStatus(entry.held === "none" ? "miss" : "stale", { collapsed: entry.request !== undefined });
}
