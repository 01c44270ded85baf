import { Listeners } from "../ground/listeners.js";
import type { Core } from "./core.js";
import type { Entry } from "./entry.js";

/** Notes that an entry's reading may have changed: made anew when the turn ends. To be called within a turn. */
export function touch(entry: Entry): void {
  entry.readUntil = 0;
  if (entry.watchers > 0) entry.shelf.core.touched.push(entry);
}

/** Notes that somebody has left: looked at one macrotask from now, so that what comes back in one go loses nothing (rule R3). */
export function leave(entry: Entry): void {
  const { core } = entry.shelf;
  if (core.disposed) return;
  core.left.add(entry);
  core.leaveTimer ??= core.clock.setTimer(() => {
    core.leaveTimer = undefined;
    settleAll(core, core.left, core.duties.settleLeft);
  }, 0);
}

/** Notes that it may be stale through its parts: looked at once, after all that changes in the same turn of the event loop. */
export function doubt(entry: Entry): void {
  const { core } = entry.shelf;
  if (core.doubted.size === 0) queueMicrotask(() => settleAll(core, core.doubted, core.duties.settleDoubt));
  core.doubted.add(entry);
}

function settleAll(core: Core, noted: Set<Entry>, settle: (entry: Entry) => void): void {
  const entries = [...noted];
  noted.clear();
  turn(core, () => entries.forEach(settle));
}

/**
 * Changes come in turns: all state is changed first, then the readings of what was touched are made anew, then those
 * whose reading changed are told (rule N1). A turn inside a turn is part of it.
 */
export function turn<T>(core: Core, change: () => T, tell: (changed: Listeners[]) => void = tellNow): T {
  core.depth++;
  try {
    return change();
  } finally {
    if (core.depth > 1) core.depth--;
    else closeTurn(core, tell);
  }
}

function closeTurn(core: Core, tellAll: (changed: Listeners[]) => void): void {
  const tell: Listeners[] = [];
  try {
    const touched = core.touched.length > 1 ? new Set(core.touched) : core.touched;
    for (const entry of touched) if (entry.activity && core.duties.renew(entry)) tell.push(entry.activity.listeners);
  } finally {
    core.touched = [];
    core.depth--;
  }
  // The state is consistent from here on: a listener may change something in a turn of its own.
  tellAll(tell);
}

function tellNow(changed: Listeners[]): void {
  if (changed.length === 1) changed[0]?.callAll();
  else if (changed.length > 1) Listeners.callAllOf(changed);
}

/** For what changes while a component is being rendered: others may be told only when that is over. */
export function tellSoon(changed: Listeners[]): void {
  queueMicrotask(() => tellNow(changed));
}
