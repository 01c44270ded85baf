import type { Around, Cache, CacheOptions } from "../ground/contract.js";
import { milliseconds } from "../ground/duration.js";
import { CistaError, shown } from "../ground/failure.js";
import { Groups } from "../ground/groups.js";
import { type EventDetails, type JournalKind, Recorder } from "../ground/journal.js";
import { Listeners } from "../ground/listeners.js";
import type { Outbox } from "../ground/outbox.js";
import { Schedule } from "../ground/schedule.js";
import type { Clock, Environment } from "../ground/seams.js";
import type { Restored } from "../ground/stored.js";
import type { Entry } from "./entry.js";
import { type Shelf, Shelves } from "./shelf.js";

/** What the rooms above do when its time has come; `cache.ts` says who. */
export interface Duties {
  /** As a turn ends: makes a touched entry's reading anew; says whether it is another one (rule N1). */
  renew(entry: Entry): boolean;
  /** As a turn of the event loop ends: it was doubted (rule D1). */
  settleDoubt(entry: Entry): void;
  /** One macrotask after it was left (rule R3). */
  settleLeft(entry: Entry): void;
  /** Its moment has come. */
  comeDue(entry: Entry): void;
  /** A source is used for the first time, perhaps in place of another of its name. */
  opened(shelf: Shelf, old: Shelf | undefined): void;
}

/** What the rooms of one cache share. The rooms are functions over it; an entry finds it as `entry.shelf.core`. */
export class Core {
  readonly options: CacheOptions;
  readonly cache: Cache;
  readonly duties: Duties;
  readonly clock: Clock;
  readonly environment: Environment;
  /** The clock's time when the cache was made: entries count from there, so that their times stay small integers. */
  readonly epoch: number;
  readonly shelves: Shelves = new Shelves(this);
  readonly groups: Groups<Entry> = new Groups();
  readonly schedule: Schedule<Entry>;
  readonly recorder: Recorder;

  /** Rule R2: a counter that only goes up. What began later has a greater version. */
  version = 0;
  /** Counts subscriptions, to tell them in that order. */
  subscriptions = 0;
  /** Turns within turns. */
  depth = 0;
  /** Entries whose reading may have changed in this turn. */
  touched: Entry[] = [];
  /** Stale through their parts, looked at when the turn of the event loop ends (rule D1). */
  readonly doubted: Set<Entry> = new Set();
  readonly watched: Set<Entry> = new Set();
  readonly underWay: Set<Entry> = new Set();
  /** Left by somebody: looked at again one macrotask later (rule R3). */
  readonly left: Set<Entry> = new Set();
  leaveTimer: unknown;
  /** Entries that nobody watches and nothing is under way for, least recently used first; how many, and how many at most. */
  oldest: Entry | undefined;
  newest: Entry | undefined;
  idle = 0;
  readonly capacity: number;
  /** Of writes; made with the first. */
  outbox: Outbox | undefined;
  arounds: readonly Around[] = [];
  /** Of those who stand around loads, what says for which sources there is to be no network. */
  offlines: readonly ((source: string) => boolean)[] = [];
  /** Restored entries of sources that have not been used yet, by the source's name, and how long they are kept. */
  readonly restored: Map<string, Restored[]> = new Map();
  restoredTimer: unknown;
  readonly retain: number;
  disposed = false;

  constructor(options: CacheOptions & { clock: Clock; environment: Environment }, cache: Cache, duties: Duties) {
    const { clock, environment, capacity = 10_000, retain = "5m" } = options;
    if (!(typeof capacity === "number" && capacity >= 0)) {
      throw new CistaError("capacity", `capacity is a number of entries, 0 or more, but it is ${shown(capacity)}.`);
    }
    this.options = options;
    this.cache = cache;
    this.duties = duties;
    this.clock = clock;
    this.environment = environment;
    this.epoch = clock.now();
    this.schedule = new Schedule<Entry>(
      clock,
      () => nowOf(this),
      (entries) => turn(this, () => entries.forEach(duties.comeDue)),
    );
    this.recorder = new Recorder(() => clock.now());
    this.capacity = capacity;
    this.retain = milliseconds(retain, "retain");
  }
}

/** @throws CistaError code "disposed" */
export function refuseDisposed(core: Core): void {
  if (!core.disposed) return;
  throw new CistaError("disposed", "This cache has been disposed of. Make another one with createCache().");
}

/** Rule R6, also where only this source is made to wait. */
export function isOnline({ core, source }: Shelf): boolean {
  return core.environment.online && !core.offlines.some((offline) => offline(source.name));
}

/** Milliseconds since the cache's epoch. */
export function nowOf(core: Core): number {
  return core.clock.now() - core.epoch;
}

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

/** Records what happened to an entry, if anybody listens. */
export function record(kind: JournalKind, entry: Entry, details?: () => EventDetails): void {
  const { core, source } = entry.shelf;
  if (core.recorder.hears(kind)) core.recorder.record(kind, { key: entry.key, source: source.name, ...details?.() });
}
