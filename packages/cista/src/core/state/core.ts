/** The state that all parts of one cache share, and their callbacks. */
import type { Cache, CacheOptions, FailedAction, GroupSelector } from "../api/contract.js";
import { CistaError, type Failure, preview } from "../api/failure.js";
import type { Cause, JournalKind } from "../api/journal.js";
import type { Change, Clock, Environment, WriteKeeper } from "../api/seams.js";
import { type Settings, settingsOf } from "../api/settings.js";
import type { Interceptor, LoadContext, Source } from "../api/source-contract.js";
import type { RunOptions, Write } from "../api/write-contract.js";
import { CacheClock } from "../lib/cache-clock.js";
import { Groups } from "../lib/groups.js";
import type { Outbox } from "../lib/outbox.js";
import { Schedule } from "../lib/schedule.js";
import { batch } from "./batches.js";
import type { Entry } from "./entry.js";
import type { Facts, JournalWriter } from "./facts.js";
import { IdleList } from "./idle-list.js";
import type { SentLayers } from "./layers.js";
import type { DependencyReader } from "./links.js";
import type { Rendering } from "./rendering.js";
import { type Shelf, Shelves } from "./shelf.js";

/** The functions of `kernel` that `state` calls. `cache.ts` connects them. */
export interface Callbacks {
  /** As a batch ends: makes a dirty entry's reading and its next moment anew (rule N1). */
  refresh(entry: Entry): void;
  /** One macrotask after a watcher or reader of the entry has left (rule R3). */
  releaseUnused(core: Core, entries: readonly Entry[]): void;
  /** The entry's next moment has come: it is stale, expired, or unused for too long. */
  onDue(entry: Entry): void;
  /** A source is used for the first time, perhaps in place of another of its name. */
  onShelfOpened(shelf: Shelf, old: Shelf | undefined): void;
  /** A reading's `revalidate` is called. */
  requestNow(shelf: Shelf, params: unknown): Promise<void>;
}

/** A write brings the function that runs it: a program without writes does not carry that along. */
export const runKey: unique symbol = Symbol.for("cista.run") as never;
export type RunWith = (
  core: Core,
  write: Write<any, any>,
  input: unknown,
  options: RunOptions,
  layers?: SentLayers,
) => Promise<unknown>;
/** Entries that wait for their source to be used. */
export interface PendingRestores {
  /** A source is used for the first time: it gets the entries that wait for it. */
  adopt(shelf: Shelf): void;
  /** A program's change, here or elsewhere, of entries that may wait for their source. @param age how long ago, in milliseconds */
  change(kind: Change["kind"], selectors: Change["selectors"], age: number): void;
  /** The age of an entry that waits for its source, in milliseconds; undefined where none does. */
  ageOf(key: string): number | undefined;
  /** Drops entries that came with a page for the user who opened it, and has left. */
  forgetVisitor(): void;
  clear(): void;
}

/** A program's change of a group. */
export interface GroupChange {
  readonly version: number;
  /** By the cache's clock. */
  readonly at: number;
  /** Left out: any group. */
  readonly selector?: GroupSelector;
}

/** The property under which a function that takes a cache finds its core, also in another copy of the library. */
export const coreKey: unique symbol = Symbol.for("cista.core") as never;

/** A seam: interceptors around every load (features/observing/intercept.ts). */
export interface Interception {
  add(interceptor: Interceptor): () => void;
  /** Takes a value that an interceptor knows, without a request. @returns whether the entry may be shown now */
  takeKnown(entry: Entry, cause: Cause): boolean;
  load(entry: Entry, reader: DependencyReader | undefined, context: LoadContext): unknown;
  isOffline(source: string): boolean;
}

/** The state that one cache's operations share. An entry reaches it as `entry.shelf.core`. */
export class Core {
  readonly options: CacheOptions;
  /** The settings of every source that says nothing else. */
  readonly settings: Settings;
  readonly cache: Cache;
  readonly callbacks: Callbacks;
  readonly clock: CacheClock;
  readonly environment: Environment;
  readonly shelves: Shelves = new Shelves(this);
  readonly groups: Groups<Entry> = new Groups();
  readonly schedule: Schedule<Entry>;
  /** Writes events down, once a program has asked for the journal. */
  journal: JournalWriter | undefined;

  /** Where the hashes of params begin (see `paramsHash`). */
  readonly hashSeed: number;
  /** Rule R2: a counter that only goes up. A change that began later has a greater version. */
  version = 0;
  /** The greatest rank so far of an entry that waits for its dependencies (rule D4). */
  rank = 0;
  /** Counts subscriptions, to tell them in that order. */
  subscriptions = 0;
  /** How many batches are open, one inside the other. 0: nothing is being changed. */
  depth = 0;
  /** The clock's time at the first look in the batch under way: all of a batch happens at one moment. */
  batchBegan: number | undefined;
  /** Entries that changed in this batch, and foreign code (loads, listeners of signals) to be run when all has changed. */
  dirty: Entry[] = [];
  afterChange: (() => void)[] = [];
  /** Entries whose moment has passed without its timer having rung: the clock was put forward, or the program was busy. */
  readonly overdue: Set<Entry> = new Set();
  readonly watched: Set<Entry> = new Set();
  readonly underWay: Set<Entry> = new Set();
  /** The version of the last invalidation of any entry or group. */
  invalidatedAt = 0;
  /** The last changes by group that were made while a request was under way: see kernel/named-groups.ts. */
  groupChanges: readonly GroupChange[] = [];
  /** Entries that a watcher or reader has left, released one macrotask later if they are still unused (rule R3). */
  readonly pendingReleases: Set<Entry> = new Set();
  /** Those that may be stale through their dependencies (rule D1). */
  readonly pendingChecks: Set<Entry> = new Set();
  releaseTimer: unknown;
  /** Entries without watchers, readers and requests; and how many of them are kept at most. */
  readonly idle: IdleList = new IdleList();
  readonly capacity: number;
  /** The writes that are under way or waiting; made with the first. */
  outbox: Outbox | undefined;
  /** The interceptors around every load, once a program has registered one. */
  interception: Interception | undefined = undefined;
  /** Restored entries of sources that have not been used yet: there once a snapshot was restored. */
  pendingRestores: PendingRestores | undefined;
  /** The keys of values that are still to come with the page: their requests wait for it (rule H11). */
  comingWithPage: Set<string> | undefined;
  /** The page that it is rendered or hydrated for. */
  rendering: Rendering | undefined;
  /** Callbacks for a sign-out: see `Cache.onSignOut`. */
  readonly signOuts: Set<() => unknown> = new Set();
  /** The functions around each round of notifications: frameworks that batch. The outermost last. */
  tellWithin: readonly ((tell: () => void) => void)[] = [];
  /** Listeners for a program's changes to entries, as data: see `onChange`. */
  changeListeners: readonly ((change: Change) => void)[] = [];
  /** The keeper of writes until they have been sent, if there is one. */
  keeper: WriteKeeper | undefined;
  /** Called when another user asks than before (rule F9). */
  readonly userListeners: Set<() => void> = new Set();
  /** The function with which loads and sends ask for the time: the same for all of them. */
  readonly now: () => number;
  /** How many users have left, as far as sign-outs and requests have told. */
  usersLeft = 0;
  /** How often another user came, also where nobody was signed in before. */
  usersCame = 0;
  /** Who hears of failures: see `Cache.onFailure`. */
  readonly failureListeners: Set<(failure: Failure, action: FailedAction) => void> = new Set();
  /** The entry that was last found fresh in this go of the event loop. */
  lastFoundFresh: Entry | undefined;
  disposed = false;
  /** Functions that end with the cache. */
  readonly disposals: Set<() => void> = new Set();

  constructor(options: CacheOptions & { clock: Clock; environment: Environment }, cache: Cache, duties: Callbacks) {
    const { environment, capacity = 10_000 } = options;
    const clock = new CacheClock(options.clock);
    if (!(typeof capacity === "number" && capacity >= 0)) {
      throw new CistaError(
        "invalid-capacity",
        DEVELOPMENT && `capacity is a number of entries, 0 or more, but it is ${preview(capacity)}.`,
      );
    }
    const { partition } = options;
    // One name for several users would show one's values to the others.
    if (partition !== undefined && !(typeof partition === "string" && partition)) throw notAPartition(partition);
    this.options = options;
    this.cache = cache;
    this.callbacks = duties;
    this.clock = clock;
    this.now = () => clock.now();
    processSeed ??= seedOf(clock);
    this.hashSeed = options.clock.uniqueText ? seedOf(clock) : processSeed;
    this.environment = environment;
    this.schedule = new Schedule<Entry>(clock, {
      onDue: (entries) => batch(this, () => entries.forEach(duties.onDue)),
      longestDelay: () => (this.watched.size > 0 && environment.visible ? wakeUpTime : Number.POSITIVE_INFINITY),
    });
    this.settings = settingsOf(options);
    this.capacity = capacity;
  }
}

/** How soon at the latest a visible page notices that its machine has slept, in milliseconds. */
const wakeUpTime = 60_000;

/** Of all caches of a process: on a server each request makes one, and random bytes take their time. */
let processSeed: number | undefined;

function seedOf(clock: CacheClock): number {
  return Number.parseInt(clock.uniqueText().slice(0, 8), 16) | 0;
}

/** @throws CistaError code "not-a-cache" for an object that `createCache` has not made */
export function coreOf(cache: Cache): Core {
  const core = (cache as { readonly [coreKey]?: Core } | undefined)?.[coreKey];
  if (core) return core;
  throw new CistaError(
    "not-a-cache",
    DEVELOPMENT && `A cache was expected, as createCache() makes it, but it is ${preview(cache)}.`,
  );
}

/** The clock that a cache goes by. */
export function clockOf(cache: Cache): Clock {
  return coreOf(cache).clock;
}

/**
 * Calls back when a cache is disposed of. Returns its own end.
 * @internal
 */
export function onDispose(cache: Cache, callback: () => void): () => void {
  const { disposals } = coreOf(cache);
  disposals.add(callback);
  return () => void disposals.delete(callback);
}

/**
 * Whose entries a cache has.
 * @internal
 */
export function partitionOf(cache: Cache): string | undefined {
  return coreOf(cache).options.partition;
}

/**
 * The `context` that a cache hands to loads and writes.
 * @internal
 */
export function contextOf(cache: Cache): unknown {
  return coreOf(cache).options.context;
}

function notAPartition(partition: unknown): CistaError {
  return new CistaError(
    "invalid-partition",
    DEVELOPMENT &&
      `A partition is a text of at least one character that names a user, but it is ${preview(partition)}. Leave it out where nobody is signed in.`,
  );
}

/**
 * Whether there is a network, and whether the page is visible, as a cache sees it.
 * @internal
 */
export function environmentOf(cache: Cache): Environment {
  return coreOf(cache).environment;
}

/**
 * Puts something around each round of telling a cache's listeners from now on, such as a framework's own batch: all that one
 * call of the cache changes is one change for it. It has to call its argument at once. The same function counts once.
 */
export function tellWithin(cache: Cache, within: (tell: () => void) => void): void {
  const core = coreOf(cache);
  if (!core.tellWithin.includes(within)) core.tellWithin = [...core.tellWithin, within];
}

/** Whether a cache knows another source by this one's name. */
export function definedElsewhere(cache: Cache, source: Source<any, any>): boolean {
  const shelf = coreOf(cache).shelves.named(source.name);
  return shelf !== undefined && shelf.source !== source;
}

/** @throws CistaError code "cache-disposed" */
export function assertNotDisposed(core: Core): void {
  if (!core.disposed) return;
  throw new CistaError(
    "cache-disposed",
    DEVELOPMENT && "This cache has been disposed of. Make another one with createCache().",
  );
}

/** Rule R6, also where only this source is made to wait. */
export function isOnline({ core, source }: Shelf): boolean {
  return core.environment.online && !core.interception?.isOffline(source.name);
}

/** Milliseconds since the cache was made: entries count from there, so that their times stay small integers, and never go back. */
export function nowOf(core: Core): number {
  if (core.depth === 0) return core.clock.elapsed();
  core.batchBegan ??= core.clock.elapsed();
  return core.batchBegan;
}

/** Notes an event of an entry, if the cache has a journal. */
export function record<K extends JournalKind>(
  kind: K,
  entry: Entry,
  ...facts: K extends keyof Facts ? Facts[K] : []
): void {
  entry.shelf.core.journal?.note(kind, entry, ...facts);
}
