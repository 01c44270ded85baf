/** How the store follows the cache: entries are gathered, written, read, counted and forgotten. Rules S1, S2, S4. */

import { clockOf, environmentOf } from "../core/doors/caches.js";
import {
  type Change,
  groupsOf,
  meansStored,
  onChange,
  type PlainSelector,
  plainSelector,
  restoreWith,
  type StoredEntry,
  staysHere,
} from "../core/doors/sharing.js";
import { keyText, milliseconds } from "../core/doors/tools.js";
import {
  type Cache,
  CistaError,
  entriesOf,
  type JournalEvent,
  journalOf,
  type Snapshot,
  takeSnapshot,
  where,
} from "../core/index.js";
import type { StoreBackend, StoreChanges, StoredRecord } from "./backend.js";
import { Database } from "./database.js";
import { Era } from "./era.js";
import { roughSize } from "./size.js";
import type { StoreOptions } from "./store-options.js";
import { markOf, type Stored, storedOf } from "./stored.js";

/** How long changed entries are gathered before they are stored in one go, in milliseconds. */
const pause = 1000;

/** Keeps the stored entries like those of a cache. */
export class Feeding {
  readonly #cache: Cache;
  readonly #name: string;
  readonly #sources: ReadonlySet<string> | undefined;
  readonly #retain: number;
  readonly #capacity: number;
  readonly #maxBytes: number;
  /** A snapshot without entries: its members about the cache. */
  readonly #empty: Snapshot;
  readonly #era: Era;
  /** The era in which it was opened: entries stored in another belong to another user. */
  readonly #ownEra: number;
  readonly #given: StoreBackend | undefined;
  #backend: StoreBackend | undefined;
  /** The keys of entries that are stored otherwise than they are held. */
  readonly #changed = new Set<string>();
  /** The entries that this page knows to be stored, the oldest first. */
  readonly #stored = new Map<string, Stored>();
  #bytes = 0;
  #timer: unknown;
  #flushing: Promise<unknown> = Promise.resolve();
  readonly #ends: (() => void)[] = [];
  #ended = false;
  #warned = false;
  /** What programs have changed since the store began to open: nothing is known of what is stored. */
  #whileOpening: PlainSelector[] | undefined = [];

  constructor(cache: Cache, options: StoreOptions) {
    const { name = "cista", keepFor = "7d", capacity = 1000, maxBytes = 20 * 2 ** 20, sources, backend } = options;
    this.#cache = cache;
    this.#given = backend;
    this.#sources = sources && new Set(sources.map((source) => source.name));
    this.#retain = milliseconds(keepFor, "keepFor");
    this.#capacity = capacity;
    this.#maxBytes = maxBytes;
    this.#empty = takeSnapshot(
      cache,
      where(() => false),
    );
    const { partition } = this.#empty;
    // Neither part has a space in it, so no two stores share a name.
    const own = encodeURIComponent(name);
    this.#name = partition === undefined ? own : `${own} ${encodeURIComponent(partition)}`;
    this.#era = new Era(this.#name);
    this.#ownEra = this.#era.now;
  }

  async begin(): Promise<void> {
    for (const { key, source, reading } of entriesOf(this.#cache)) {
      if (reading.state === "ready" || reading.state === "missing") this.#changedIn(key, source); // newer than what is stored
    }
    const kinds = ["answer", "unchanged", "missing", "put", "invalidate", "delete", "adopt"] as const;
    try {
      this.#ends.push(journalOf(this.#cache).subscribe((event) => this.#note(event), kinds));
      this.#ends.push(environmentOf(this.#cache).subscribe(() => this.#pageChanged()));
      this.#ends.push(onChange(this.#cache, (change) => this.#changedBy(change)));
      this.#ends.push(this.#cache.onSignOut(() => this.#forgetAll()));
      this.#backend = this.#given ?? (await Database.open(this.#name, () => this.#end()));
      await this.#takeIn(this.#backend);
    } catch (thrown) {
      this.#end();
      throw thrown;
    }
  }

  async flush(): Promise<void> {
    this.#stopTimer();
    const backend = this.#backend;
    if (this.#changed.size === 0 || !backend) return;
    if (this.#signedOutElsewhere()) return this.#cache.signOut();
    const changes = this.#gathered();
    this.#changed.clear();
    this.#flushing = this.#writeAll(backend, changes).catch((thrown) => {
      for (const key of changes.keys()) this.#changed.add(key);
      throw thrown;
    });
    await this.#flushing;
    await this.#keepWithin(backend);
  }

  async clear(): Promise<void> {
    this.#changed.clear();
    this.#stored.clear();
    this.#bytes = 0;
    await this.#flushing.catch(() => {});
    await this.#backend?.clear();
  }

  async close(): Promise<void> {
    const wasOpen = !this.#ended;
    this.#end();
    if (wasOpen) await this.flush();
    this.#closeBackend();
  }

  #closeBackend(): void {
    this.#backend?.close?.();
    this.#backend = undefined;
  }

  // ── The stored entries ─────────────────────────────────────────────────────

  async #takeIn(backend: StoreBackend): Promise<void> {
    const { records, others } = await backend.readAll(this.#capacity);
    const good: StoredRecord[] = [];
    const dropped = [...others];
    let bytes = 0;
    const oldest = this.#empty.takenAt - this.#retain;
    const newestFirst = [...records].sort(([, one], [, other]) => takenAtOf(other) - takenAtOf(one));
    for (const [under, record] of newestFirst) {
      if (this.#isGood(under, record) && record.takenAt >= oldest && bytes + record.bytes <= this.#maxBytes) {
        good.push(record);
        bytes += record.bytes;
      } else dropped.push(under);
    }
    this.#count(new Map(good.toReversed().map((record) => [record.key, record])));
    // A change while the database was being opened is newer.
    this.#noteMeant(this.#whileOpening ?? []);
    this.#whileOpening = undefined;
    const all = good.map(({ entry }) => entry);
    for (const [takenAt, some] of byTime(good.filter(({ key }) => !this.#changed.has(key)))) {
      const entries = some.map(({ entry }) => entry);
      restoreWith(this.#cache, { ...this.#empty, takenAt, entries }, undefined, all);
    }
    if (dropped.length > 0) await backend.write(without(dropped));
  }

  /** Rule S1: a stored record is foreign, and its entry has to be the one that its key names. */
  #isGood(under: string, record: unknown): record is StoredRecord {
    const { key, takenAt, era, bytes, entry } = (record ?? {}) as { [name in keyof StoredRecord]?: unknown };
    const { source, params } = (entry ?? {}) as { source?: unknown; params?: unknown };
    if (key !== under || era !== this.#ownEra || typeof source !== "string") return false;
    if (this.#sources?.has(source) === false || !isLength(takenAt) || !isLength(bytes)) return false;
    try {
      return keyText(source, params) === key;
    } catch {
      return false;
    }
  }

  #gathered(): StoreChanges {
    const changes = new Map<string, StoredRecord | undefined>();
    for (const key of this.#changed) {
      const { takenAt, entries: all } = takeSnapshot(this.#cache, { key });
      const entries = (all as StoredEntry[]).filter((entry) => !staysHere(entry));
      if (DEVELOPMENT && entries.length < all.length) {
        this.#warnOnce(
          `${key} was answered to an Authorization, and nobody has said whose that is: it is not stored. Say createCache({ partition }), or origin({ user })`,
        );
      }
      const bytes = entries.length > 0 ? roughSize(entries[0], this.#maxBytes / 10) : 0;
      const stored = entries.length > 0 && bytes <= this.#maxBytes / 10;
      if (entries.length > 0 && !stored) {
        this.#warnOnce(`${key} is too large to be stored (more than ${this.#maxBytes / 10} bytes)`);
      }
      const marks = stored ? groupsOf(this.#cache, key).map(markOf) : [];
      const own = marks.length > 0 ? { marks } : {};
      changes.set(key, stored ? { key, takenAt, bytes, era: this.#ownEra, ...own, entry: entries[0] } : undefined);
    }
    return changes;
  }

  /** In one transaction; where the browser has no room for all, one by one, so that one value keeps no other out. */
  async #writeAll(backend: StoreBackend, changes: StoreChanges): Promise<void> {
    try {
      await backend.write(changes);
      this.#count(changes);
    } catch (thrown) {
      if ((thrown as DOMException)?.name !== "QuotaExceededError" || changes.size < 2) throw thrown;
      await this.#writeEach(backend, changes, thrown);
    }
  }

  async #writeEach(backend: StoreBackend, changes: StoreChanges, reason: unknown): Promise<void> {
    const refused: string[] = [];
    const smallestFirst = [...changes].sort(([, one], [, other]) => (one?.bytes ?? 0) - (other?.bytes ?? 0));
    for (const change of smallestFirst) {
      const one = new Map([change]);
      await backend.write(one).then(
        () => this.#count(one),
        () => refused.push(change[0]),
      );
    }
    if (refused.length === changes.size) throw reason;
    if (refused.length > 0) this.#warnOnce(`there is no room to store ${refused.join(", ")}`);
  }

  #count(changes: StoreChanges): void {
    for (const [key, record] of changes) {
      this.#bytes += (record?.bytes ?? 0) - (this.#stored.get(key)?.bytes ?? 0);
      this.#stored.delete(key);
      if (record) this.#stored.set(key, storedOf(record));
    }
  }

  /** Lets go of the oldest, where there are too many, or they take too much. */
  async #keepWithin(backend: StoreBackend): Promise<void> {
    let most = Math.min(this.#stored.size, this.#capacity);
    let left = this.#bytes;
    for (const { bytes } of this.#stored.values()) {
      if (left <= this.#maxBytes) break;
      left -= bytes;
      most--;
    }
    if (most >= this.#stored.size && this.#stored.size <= this.#capacity) return;
    const surplus = without((await backend.readAll(most)).others);
    await backend.write(surplus);
    this.#count(surplus);
  }

  // ── Events of the cache, the page and the user ─────────────────────────────

  /** A value that another tab has told is stored by that tab. A composite is each tab's own. */
  #note({ kind, key, source, from }: JournalEvent): void {
    if (key === undefined || source === undefined) return;
    if (from === undefined) this.#changedIn(key, source);
    if (kind !== "unchanged") this.#dependencyChanged(key);
  }

  /** Also of entries that the cache does not hold: their sources have not been used yet, or they were let go. */
  #changedBy({ selectors, isHeard }: Change): void {
    const plain = selectors.flatMap((selector) => plainSelector(selector) ?? []);
    this.#whileOpening?.push(...plain);
    const keys = this.#noteMeant(plain);
    // The tab that has told it stores the next value a second later: nothing may be deleted after that.
    if (isHeard && keys.length > 0) this.#flushAfter(0);
  }

  /** The stored entries that selectors mean have changed. @returns their keys */
  #noteMeant(selectors: readonly PlainSelector[]): string[] {
    const keys = selectors.flatMap((selector) => this.#meant(selector));
    for (const key of keys) {
      this.#noteChanged(key);
      this.#dependencyChanged(key);
    }
    return keys;
  }

  /** The keys of the stored entries that a selector means. */
  #meant(selector: PlainSelector): string[] {
    if (typeof selector === "object" && "key" in selector) return this.#stored.has(selector.key) ? [selector.key] : [];
    const mark = typeof selector === "object" && "group" in selector ? markOf(selector.group) : undefined;
    const isMeant = ({ place, marks }: Stored) =>
      mark === undefined ? meansStored(this.#cache, selector, place) : marks.includes(mark);
    return [...this.#stored].filter(([, stored]) => isMeant(stored)).map(([key]) => key);
  }

  /** What is stored of a composite says whether a dependency has changed since: it names those of its dependencies too. */
  #dependencyChanged(key: string): void {
    for (const [composite, { dependencies }] of this.#stored) {
      if (dependencies.has(key)) this.#noteChanged(composite);
    }
  }

  #changedIn(key: string, source: string): void {
    if (this.#sources?.has(source) !== false) this.#noteChanged(key);
  }

  #noteChanged(key: string): void {
    if (this.#ended) return;
    this.#changed.add(key);
    if (this.#timer === undefined) this.#flushAfter(pause);
  }

  #flushAfter(delay: number): void {
    this.#stopTimer();
    if (!this.#ended) this.#timer = clockOf(this.#cache).setTimer(() => this.#flushBehind(), delay);
  }

  #pageChanged(): void {
    if (!environmentOf(this.#cache).visible) this.#flushBehind();
    else if (this.#signedOutElsewhere()) void this.#cache.signOut(); // while this page was not running
  }

  #flushBehind(): void {
    this.flush().catch((thrown) => {
      if (thrown instanceof CistaError)
        this.#end(); // the cache was disposed of
      else this.#warnOnce("what changed could not be stored, and is tried again with the next change", thrown);
    });
  }

  #signedOutElsewhere(): boolean {
    return !this.#ended && this.#era.now !== this.#ownEra;
  }

  /** Rule S4: from now on nothing is stored, and nothing of it is left, also where another tab still stores something of it. */
  async #forgetAll(): Promise<void> {
    if (this.#ended) return;
    this.#end();
    if (this.#era.now === this.#ownEra) this.#era.begin();
    await this.#flushing.catch(() => {});
    await this.#keepOnly(this.#era.now);
    this.#closeBackend();
  }

  /** Forgets all that was stored in another era than this one. */
  async #keepOnly(era: number): Promise<void> {
    if (!this.#backend) return;
    const { records } = await this.#backend.readAll(Number.POSITIVE_INFINITY);
    const others = records.filter(([, record]) => (record as StoredRecord | null)?.era !== era);
    await this.#backend.write(without(others.map(([key]) => key)));
  }

  #warnOnce(text: string, thrown?: unknown): void {
    if (!this.#warned) console.warn(...[`Cista: ${text}:`, thrown].slice(0, thrown === undefined ? 1 : 2));
    this.#warned = true;
  }

  #stopTimer(): void {
    if (this.#timer !== undefined) clockOf(this.#cache).clearTimer(this.#timer);
    this.#timer = undefined;
  }

  #end(): void {
    this.#ended = true;
    this.#stopTimer();
    for (const end of this.#ends) end();
  }
}

function isLength(value: unknown): value is number {
  return typeof value === "number" && value >= 0 && value < Number.POSITIVE_INFINITY;
}

function takenAtOf(stored: unknown): number {
  const { takenAt } = (stored ?? {}) as { takenAt?: unknown };
  return isLength(takenAt) ? takenAt : 0;
}

/** Entries stored at one time are one snapshot; the newest first, should there be more than the cache's capacity. */
function byTime(stored: readonly StoredRecord[]): Map<number, StoredRecord[]> {
  const times = new Map<number, StoredRecord[]>();
  for (const record of stored) {
    const others = times.get(record.takenAt);
    if (others) others.push(record);
    else times.set(record.takenAt, [record]);
  }
  return times;
}

function without(keys: readonly string[]): StoreChanges {
  return new Map(keys.map((key) => [key, undefined]));
}
