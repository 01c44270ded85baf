/** Batches: all state is changed first, then readings and moments follow, then everybody is told. Rules N1, D1, R3. */
import { CistaError } from "../api/failure.js";
import type { AnyReading } from "../api/reading.js";
import { guarded, report } from "../lib/guarded.js";
import { Listeners } from "../lib/listeners.js";
import type { Core } from "./core.js";
import type { Entry } from "./entry.js";

/** Notes that an entry has changed: its reading and its next moment are made anew when the batch ends. To be called within one. */
export function markDirty(entry: Entry): void {
  entry.readingValidUntil = 0;
  markUsed(entry);
}

/** Notes that its next moment is another, though its reading may stay. To be called within a batch. */
export function markUsed(entry: Entry): void {
  if (entry.isDirty) return;
  entry.isDirty = true;
  const { core } = entry.shelf;
  core.dirty = listWith(core.dirty, entry);
}

/** A list that grows takes room for seventeen at once: most batches have one of each. */
function listWith<T>(list: T[], item: T): T[] {
  if (list.length === 0) return [item];
  list.push(item);
  return list;
}

/** Notes that a watcher or reader of an entry has left. One macrotask later the entry is released, if it is still unused (rule R3). */
export function scheduleRelease(entry: Entry): void {
  const { core } = entry.shelf;
  if (core.disposed) return;
  core.pendingReleases.add(entry);
  core.releaseTimer ??= core.clock.setTimer(() => {
    core.releaseTimer = undefined;
    flush(core, core.pendingReleases, (entries) => core.callbacks.releaseUnused(core, entries));
  }, 0);
}

/**
 * Runs foreign code (a load, the listeners of a signal) when all that changes in this batch has changed, so that it may
 * use the cache. At once where nothing is being changed.
 */
export function afterChange(core: Core, call: () => void): void {
  if (core.depth > 0) core.afterChange = listWith(core.afterChange, call);
  else guarded(call);
}

export function flush(core: Core, noted: Set<Entry>, settle: (entries: readonly Entry[]) => void): void {
  const entries = [...noted];
  noted.clear();
  batch(core, () => settle(entries));
}

/**
 * Runs a change as a batch: all state is changed first; then dirty entries are refreshed, and foreign code and the journal's
 * listeners are run, until nothing is left to do; last, those whose reading changed are notified (rule N1). A batch inside
 * a batch is part of it.
 */
export function batch<T>(core: Core, change: () => T, tell: (changed: Listeners[]) => void = notifyNow): T {
  if (core.depth++ === 0) core.batchBegan = undefined;
  try {
    return change();
  } finally {
    if (core.depth > 1) core.depth--;
    else closeBatch(core, tell);
  }
}

/** Runs a change whose watchers are notified when the next batch ends, at the latest in a microtask. */
export function batchNotifiedLater(core: Core, change: () => void): void {
  if (core.depth++ === 0) core.batchBegan = undefined;
  try {
    change();
  } finally {
    core.depth--;
    if (core.depth === 0 && core.journal?.isBehind) queueMicrotask(() => batch(core, () => {}));
  }
}

/** The reading that an entry's watchers were shown before. */
type Shown = readonly [entry: Entry, before: AnyReading | undefined];

function closeBatch(core: Core, tellAll: (changed: Listeners[]) => void): void {
  let shown: Shown[] = [];
  try {
    for (let round = 0; core.dirty.length > 0 || core.afterChange.length > 0 || core.overdue.size > 0; round++) {
      if (round >= mostRounds + core.shelves.byKey.size) {
        goOnLater(core);
        break;
      }
      if (core.overdue.size > 0) takeOverdue(core); // before anybody sees it
      if (core.dirty.length > 0) shown = refreshDirty(core, shown);
      if (core.afterChange.length > 0) runAfterChange(core);
      core.journal?.tell("consistent");
    }
  } finally {
    core.depth--;
  }
  // The state is consistent from here on: a listener may change something in a batch of its own.
  const changed = changedOf(shown);
  core.journal?.tell(); // of what was only written down
  if (changed.length === 0) return;
  let tell = () => tellAll(changed);
  for (const within of core.tellWithin) {
    const inner = tell;
    tell = () => within(inner);
  }
  tell();
}

/** The listeners of each entry that shows another reading than before the batch. */
function changedOf(shown: readonly Shown[]): Listeners[] {
  let changed: Listeners[] = [];
  const isOnce = shown.length < 2 ? undefined : new Set<Entry>();
  for (const [entry, before] of shown) {
    if (isOnce?.has(entry)) continue;
    isOnce?.add(entry);
    if (entry.activity && entry.reading !== before) changed = listWith(changed, entry.activity.listeners);
  }
  return changed;
}

/**
 * After so many rounds, and one more for each entry, a batch causes itself, as where `revalidateEvery` invalidates the entry
 * that it is asked about. (Composites that read one another in a chain take a round for each.)
 */
const mostRounds = 1000;
/** The page has time for other things meanwhile, in milliseconds. */
const pauseAfterLoop = 1000;

function goOnLater(core: Core): void {
  const message =
    "A change of the cache causes itself without end: a function of a definition changes what it is called about.";
  report(new CistaError("endless-change", DEVELOPMENT && `${message} It goes on in a second.`));
  core.clock.setTimer(() => batch(core, () => {}), pauseAfterLoop);
}

function takeOverdue(core: Core): void {
  const overdue = [...core.overdue];
  core.overdue.clear();
  for (const entry of overdue) if (entry.watchers > 0) core.callbacks.onDue(entry);
}

/** @returns the readings that the watchers were shown before, added to those of earlier rounds */
function refreshDirty(core: Core, earlier: Shown[]): Shown[] {
  const { dirty } = core;
  core.dirty = [];
  let shown = earlier;
  for (const entry of dirty) {
    entry.isDirty = false; // it may become dirty again by what follows
    if (entry.watchers > 0) shown = listWith(shown, [entry, entry.reading]);
    core.callbacks.refresh(entry);
  }
  return shown;
}

function runAfterChange(core: Core): void {
  const { afterChange } = core;
  core.afterChange = [];
  for (const call of afterChange) {
    guarded(call);
    core.batchBegan = undefined; // it may have taken its time
  }
}

function notifyNow(changed: Listeners[]): void {
  if (changed.length === 1) changed[0]?.callAll();
  else Listeners.callAllOf(changed);
}

/** Notifies in a microtask: for a change during a component's render, when no other component may be told. */
export function notifySoon(changed: Listeners[]): void {
  queueMicrotask(() => notifyNow(changed));
}
