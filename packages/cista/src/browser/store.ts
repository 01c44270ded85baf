import {
  type Cache,
  CistaError,
  type Duration,
  type JournalEvent,
  journalOf,
  restoreSnapshot,
  type Snapshot,
  type Source,
  takeSnapshot,
} from "../core/index.js";
import { keyText, milliseconds } from "../core/internal.js";
import { type Changes, Database, type StoredRecord } from "./database.js";
import { pageEnvironment } from "./environment.js";
import { Era } from "./era.js";
import { roughSize } from "./size.js";

export interface StoreOptions {
  /** The database's name. Default "cista"; a cache with a partition has one of its own. */
  name?: string;
  /** The only ones whose entries are stored; what is stored of others is forgotten. Default: all sources. */
  sources?: readonly Source<any, any>[];
  /** What was stored longer ago is not taken in any more, and dropped. Default "7d". */
  retain?: Duration;
  /** Entries stored at most; the oldest go first. Default 1,000. */
  capacity?: number;
  /** Bytes stored at most, about; the oldest go first, and a value of more than a tenth of it is not stored. Default 20 MiB. */
  maxBytes?: number;
}

/** Where a cache's entries are kept while no page holds them. */
export interface Store {
  /** Stores what has changed. Rejects with what the browser says, of a full disk for example: it is then still to be stored. */
  flush(): Promise<void>;
  /** Forgets all that is stored. The cache keeps what it holds; when somebody signs out, `cache.signOut` does all that is to be done. */
  clear(): Promise<void>;
  /** Stores what has changed, and from then on nothing. To be called before the cache is disposed of. */
  close(): Promise<void>;
}

/** How long what changes is gathered before it is stored in one go, in milliseconds. */
const pause = 1000;

/**
 * Keeps what a cache holds in the browser (IndexedDB), over reloads of the page. Takes in what is stored, as old as it is,
 * where nothing is held yet; from then on stores what changes: a second later, or as soon as nobody looks at the page.
 * `noStore` values are never stored (RFC 9111 §5.2.2.5); what is invalidated or deleted is forgotten here too, and
 * everything by `cache.signOut`, also in another tab.
 * Rejects with what the browser says where there is no database to be had; the cache works without.
 * @throws CistaError code "duration"; code "store" where there is no page, as on a server, or where it does not open in time
 */
export async function openStore(cache: Cache, options: StoreOptions = {}): Promise<Store> {
  if (typeof document === "undefined" || typeof indexedDB === "undefined") {
    throw new CistaError(
      "store",
      DEVELOPMENT &&
        "openStore keeps entries in a page's own database, and there is no page here: call it in the browser only. On a server, take a snapshot and send it along with the page.",
    );
  }
  const feeding = new Feeding(cache, options);
  await feeding.begin();
  return {
    flush: () => feeding.flush(),
    clear: () => feeding.clear(),
    close: () => feeding.close(),
  };
}

/** What is stored follows what a cache holds. */
class Feeding {
  readonly #cache: Cache;
  readonly #name: string;
  readonly #sources: ReadonlySet<string> | undefined;
  readonly #retain: number;
  readonly #capacity: number;
  readonly #maxBytes: number;
  /** Of no entries: what it says of the cache. */
  readonly #empty: Snapshot;
  readonly #era: Era;
  /** The one in which it was opened: what was stored in another belongs to somebody else. */
  readonly #ownEra: number;
  #database: Database | undefined;
  readonly #environment = pageEnvironment();
  /** The keys of what is stored otherwise than it is held. */
  readonly #changed = new Set<string>();
  /** What this page knows to be stored, the oldest first, and how much that takes. */
  readonly #sizes = new Map<string, number>();
  #bytes = 0;
  #timer: ReturnType<typeof setTimeout> | undefined;
  #flushing: Promise<unknown> = Promise.resolve();
  readonly #ends: (() => void)[] = [];
  #ended = false;
  #warned = false;

  constructor(cache: Cache, options: StoreOptions) {
    const { name = "cista", retain = "7d", capacity = 1000, maxBytes = 20 * 2 ** 20, sources } = options;
    this.#cache = cache;
    this.#sources = sources && new Set(sources.map((source) => source.name));
    this.#retain = milliseconds(retain, "retain");
    this.#capacity = capacity;
    this.#maxBytes = maxBytes;
    this.#empty = takeSnapshot(cache, { where: () => false });
    const { partition } = this.#empty;
    // Neither part has a space in it, so no two stores share a name.
    const own = encodeURIComponent(name);
    this.#name = partition === undefined ? own : `${own} ${encodeURIComponent(partition)}`;
    this.#era = new Era(this.#name);
    this.#ownEra = this.#era.now;
  }

  async begin(): Promise<void> {
    for (const { key, source, reading } of this.#cache.entries()) {
      if (reading.state === "ready" || reading.state === "missing") this.#changedIn(key, source); // newer than what is stored
    }
    const kinds = ["answer", "unchanged", "missing", "put", "invalidate", "delete"] as const;
    try {
      this.#ends.push(journalOf(this.#cache).subscribe((event) => this.#note(event), kinds));
      this.#ends.push(this.#environment.subscribe(() => this.#pageChanged()));
      this.#ends.push(this.#cache.onSignOut(() => this.#forgetAll()));
      this.#database = await Database.open(this.#name, () => this.#end());
      await this.#takeIn(this.#database);
    } catch (thrown) {
      this.#end();
      throw thrown;
    }
  }

  async flush(): Promise<void> {
    clearTimeout(this.#timer);
    this.#timer = undefined;
    const database = this.#database;
    if (this.#changed.size === 0 || !database) return;
    if (this.#signedOutElsewhere()) return this.#cache.signOut();
    const changes = this.#gathered();
    this.#changed.clear();
    this.#flushing = this.#writeAll(database, changes).catch((thrown) => {
      for (const key of changes.keys()) this.#changed.add(key);
      throw thrown;
    });
    await this.#flushing;
    await this.#keepWithin(database);
  }

  async clear(): Promise<void> {
    this.#changed.clear();
    this.#sizes.clear();
    this.#bytes = 0;
    await this.#flushing.catch(() => {});
    await this.#database?.clear();
  }

  async close(): Promise<void> {
    const wasOpen = !this.#ended;
    this.#end();
    if (wasOpen) await this.flush();
    this.#database?.close();
    this.#database = undefined;
  }

  // ── What is stored ─────────────────────────────────────────────────────────

  async #takeIn(database: Database): Promise<void> {
    const { records, others } = await database.readNewest(this.#capacity);
    const good: StoredRecord[] = [];
    const oldest = this.#empty.takenAt - this.#retain;
    const newestFirst = records.sort((one, other) => takenAtOf(other) - takenAtOf(one));
    for (const { under, record } of newestFirst as { under: string; record: unknown }[]) {
      if (this.#isGood(under, record) && record.takenAt >= oldest && this.#bytes + record.bytes <= this.#maxBytes) {
        good.push(record);
        this.#bytes += record.bytes;
      } else others.push(under);
    }
    for (const { key, bytes } of good.toReversed()) this.#sizes.set(key, bytes);
    // What happened to one while the database was being opened is newer.
    for (const [takenAt, some] of byTime(good.filter(({ key }) => !this.#changed.has(key)))) {
      restoreSnapshot(this.#cache, { ...this.#empty, takenAt, entries: some.map(({ entry }) => entry) });
    }
    if (others.length > 0) await database.write(new Map(others.map((key) => [key, undefined])));
  }

  /** Rule S1: what is stored is foreign, and its entry has to be the one that its key names. */
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

  #gathered(): Changes {
    const changes = new Map<string, StoredRecord | undefined>();
    for (const key of this.#changed) {
      const { takenAt, entries } = takeSnapshot(this.#cache, { key });
      const bytes = entries.length > 0 ? roughSize(entries[0], this.#maxBytes / 10) : 0;
      const stored = entries.length > 0 && bytes <= this.#maxBytes / 10;
      if (entries.length > 0 && !stored) {
        this.#warnOnce(`${key} is too large to be stored (more than ${this.#maxBytes / 10} bytes)`);
      }
      changes.set(key, stored ? { key, takenAt, bytes, era: this.#ownEra, entry: entries[0] } : undefined);
    }
    return changes;
  }

  /** In one transaction; where the browser has no room for all, one by one, so that one value keeps no other out. */
  async #writeAll(database: Database, changes: Changes): Promise<void> {
    try {
      await database.write(changes);
      this.#count(changes);
    } catch (thrown) {
      if ((thrown as DOMException)?.name !== "QuotaExceededError" || changes.size < 2) throw thrown;
      await this.#writeEach(database, changes, thrown);
    }
  }

  async #writeEach(database: Database, changes: Changes, reason: unknown): Promise<void> {
    const refused: string[] = [];
    const smallestFirst = [...changes].sort(([, one], [, other]) => (one?.bytes ?? 0) - (other?.bytes ?? 0));
    for (const change of smallestFirst) {
      const one = new Map([change]);
      await database.write(one).then(
        () => this.#count(one),
        () => refused.push(change[0]),
      );
    }
    if (refused.length === changes.size) throw reason;
    if (refused.length > 0) this.#warnOnce(`there is no room to store ${refused.join(", ")}`);
  }

  #count(changes: Changes): void {
    for (const [key, record] of changes) {
      this.#bytes += (record?.bytes ?? 0) - (this.#sizes.get(key) ?? 0);
      this.#sizes.delete(key);
      if (record) this.#sizes.set(key, record.bytes);
    }
  }

  /** Lets go of the oldest, where there are too many, or they take too much. */
  async #keepWithin(database: Database): Promise<void> {
    let most = Math.min(this.#sizes.size, this.#capacity);
    let left = this.#bytes;
    for (const bytes of this.#sizes.values()) {
      if (left <= this.#maxBytes) break;
      left -= bytes;
      most--;
    }
    if (most >= this.#sizes.size && this.#sizes.size <= this.#capacity) return;
    for (const key of await database.trim(most)) this.#count(new Map([[key, undefined]]));
  }

  // ── What happens to the cache, the page and whoever uses them ──────────────

  #note({ key, source }: JournalEvent): void {
    if (key !== undefined && source !== undefined) this.#changedIn(key, source);
  }

  #changedIn(key: string, source: string): void {
    if (this.#ended || this.#sources?.has(source) === false) return;
    this.#changed.add(key);
    this.#timer ??= setTimeout(() => this.#flushBehind(), pause);
  }

  #pageChanged(): void {
    if (!this.#environment.visible) this.#flushBehind();
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

  /** Rule S4: from now on nothing is stored, and nothing of it is left, whoever else still stores something of it. */
  async #forgetAll(): Promise<void> {
    if (this.#ended) return;
    this.#end();
    if (this.#era.now === this.#ownEra) this.#era.begin();
    await this.#flushing.catch(() => {});
    await this.#database?.keepOnly(this.#era.now);
    this.#database?.close();
    this.#database = undefined;
  }

  #warnOnce(text: string, thrown?: unknown): void {
    if (!this.#warned) console.warn(...[`Cista: ${text}:`, thrown].slice(0, thrown === undefined ? 1 : 2));
    this.#warned = true;
  }

  #end(): void {
    this.#ended = true;
    clearTimeout(this.#timer);
    for (const end of this.#ends) end();
  }
}

function isLength(value: unknown): value is number {
  return typeof value === "number" && value >= 0 && value < Number.POSITIVE_INFINITY;
}

function takenAtOf(stored: unknown): number {
  const { takenAt } = ((stored as { record?: unknown }).record ?? {}) as { takenAt?: unknown };
  return isLength(takenAt) ? takenAt : 0;
}

/** What was stored at one time is one snapshot; the newest first, should there be more than the cache's capacity. */
function byTime(stored: readonly StoredRecord[]): Map<number, StoredRecord[]> {
  const times = new Map<number, StoredRecord[]>();
  for (const record of stored) {
    const others = times.get(record.takenAt);
    if (others) others.push(record);
    else times.set(record.takenAt, [record]);
  }
  return times;
}
