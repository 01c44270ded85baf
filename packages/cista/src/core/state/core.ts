import { CacheClock } from "../ground/cache-clock.js";
import type { Cache, CacheOptions, Interceptor } from "../ground/contract.js";
import { milliseconds } from "../ground/duration.js";
import { CistaError, preview } from "../ground/failure.js";
import { Groups } from "../ground/groups.js";
import { type EventDetails, guarded, type JournalKind, Recorder } from "../ground/journal.js";
import type { Outbox } from "../ground/outbox.js";
import { Schedule } from "../ground/schedule.js";
import type { Clock, Environment } from "../ground/seams.js";
import { settingsOf } from "../ground/settings.js";
import type { Restored } from "../ground/stored.js";
import { batch } from "./batches.js";
import type { Entry } from "./entry.js";
import { type Shelf, Shelves } from "./shelf.js";

/** What the rooms above do when its time has come; `cache.ts` says who. */
export interface Callbacks {
  /** As a turn ends: makes a touched entry's reading anew (rule N1). */
  refreshReading(entry: Entry): void;
  /** As a turn of the event loop ends: they were doubted (rule D1). */
  revalidateIfPartsChanged(entries: readonly Entry[]): void;
  /** One macrotask after it was left (rule R3). */
  releaseIfUnused(entry: Entry): void;
  /** The clock was put back: its next moment is to be found anew. */
  reschedule(entry: Entry): void;
  /** Its moment has come. */
  onDue(entry: Entry): void;
  /** A source is used for the first time, perhaps in place of another of its name. */
  onShelfOpened(shelf: Shelf, old: Shelf | undefined): void;
}

/** What the rooms of one cache share. The rooms are functions over it; an entry finds it as `entry.shelf.core`. */
export class Core {
  readonly options: CacheOptions;
  readonly cache: Cache;
  readonly callbacks: Callbacks;
  readonly clock: CacheClock;
  readonly environment: Environment;
  /** The clock's time when the cache was made: entries count from there, so that their times stay small integers. */
  readonly epoch: number;
  readonly shelves: Shelves = new Shelves(this);
  readonly groups: Groups<Entry> = new Groups();
  readonly schedule: Schedule<Entry>;
  readonly recorder: Recorder;

  /** Where the hashes of params begin (see `paramsHash`). */
  readonly hashSeed: number;
  /** Rule R2: a counter that only goes up. What began later has a greater version. */
  version = 0;
  /** The greatest rank so far of what waits for its parts (rule D4). */
  rank = 0;
  /** Counts subscriptions, to tell them in that order. */
  subscriptions = 0;
  /** Turns within turns. */
  depth = 0;
  /** Entries whose reading may have changed in this turn, and foreign code to be run when all has changed. */
  dirty: Entry[] = [];
  afterChange: (() => void)[] = [];
  /** Entries whose moment has passed without its timer having rung: the clock was put forward, or the program was busy. */
  readonly overdue: Set<Entry> = new Set();
  /** Stale through their parts, looked at when the turn of the event loop ends (rule D1). */
  readonly pendingChecks: Set<Entry> = new Set();
  readonly watched: Set<Entry> = new Set();
  readonly underWay: Set<Entry> = new Set();
  /** Left by somebody: looked at again one macrotask later (rule R3). */
  readonly pendingReleases: Set<Entry> = new Set();
  releaseTimer: unknown;
  /** Entries that nobody watches and nothing is under way for, least recently used first; how many, and how many at most. */
  oldest: Entry | undefined;
  newest: Entry | undefined;
  idle = 0;
  readonly capacity: number;
  /** Of writes; made with the first. */
  outbox: Outbox | undefined;
  /** Around every load, the outermost last. */
  interceptors: readonly { readonly interceptor: Interceptor }[] = [];
  /** Restored entries of sources that have not been used yet, by the source's name, and how long they are kept. */
  readonly restored: Map<string, Restored[]> = new Map();
  restoredTimer: unknown;
  readonly retain: number;
  /** What else is to be done when somebody signs out: see `Cache.onSignOut`. */
  readonly signOuts: Set<() => unknown> = new Set();
  /** The entry that was last found fresh in this go of the event loop. */
  lastFoundFresh: Entry | undefined;
  /** It has been said that two users seem to share this cache. */
  otherUserNoticed = false;
  disposed = false;

  constructor(options: CacheOptions & { clock: Clock; environment: Environment }, cache: Cache, duties: Callbacks) {
    const { environment, capacity = 10_000, retain = "5m" } = options;
    const clock = new CacheClock(options.clock);
    if (!(typeof capacity === "number" && capacity >= 0)) {
      throw new CistaError("capacity", `capacity is a number of entries, 0 or more, but it is ${preview(capacity)}.`);
    }
    this.options = options;
    this.cache = cache;
    this.callbacks = duties;
    this.clock = clock;
    this.hashSeed = Number.parseInt(clock.uniqueText().slice(0, 8), 16) | 0;
    this.environment = environment;
    this.epoch = clock.now();
    this.schedule = new Schedule<Entry>(
      clock,
      () => nowOf(this),
      (entries) => batch(this, () => entries.forEach(duties.onDue)),
      () => this.watched.forEach(duties.reschedule),
    );
    this.recorder = new Recorder(
      () => clock.now(),
      () => this.depth > 0,
    );
    settingsOf({}, options); // refuses what cannot be where it was written
    this.capacity = capacity;
    this.retain = milliseconds(retain, "retain");
  }
}

/** @throws CistaError code "disposed" */
export function assertNotDisposed(core: Core): void {
  if (!core.disposed) return;
  throw new CistaError("disposed", "This cache has been disposed of. Make another one with createCache().");
}

/** Rule R6, also where only this source is made to wait. */
export function isOnline({ core, source }: Shelf): boolean {
  return (
    core.environment.online && !core.interceptors.some(({ interceptor }) => forcesOffline(interceptor, source.name))
  );
}

/** No, where the interceptor throws. */
function forcesOffline(interceptor: Interceptor, source: string): boolean {
  let offline = false;
  guarded(() => {
    offline = interceptor.isOffline?.(source) ?? false;
  });
  return offline;
}

/** Milliseconds since the cache's epoch. */
export function nowOf(core: Core): number {
  return core.clock.now() - core.epoch;
}

/** Records what happened to an entry, if anybody listens. */
export function record(kind: JournalKind, entry: Entry, details?: () => EventDetails): void {
  const { core, source } = entry.shelf;
  if (core.recorder.hears(kind)) core.recorder.record(kind, { key: entry.key, source: source.name, ...details?.() });
}
