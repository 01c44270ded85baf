import { clear, createStore, keys, promisifyRequest, values } from "idb-keyval";
import { milliseconds } from "../core/ground/duration.js";
import { type Cache, CistaError, type Duration, type JournalEvent, type Source } from "../core/index.js";
import { pageEnvironment } from "./environment.js";

export interface StoreOptions {
  /** The database's name. Default "cista"; a cache with a partition has one of its own. */
  name?: string;
  /** The only ones whose entries are stored. Default: all sources. */
  sources?: readonly Source<any, any>[];
  /** What was stored longer ago is not taken in any more, and dropped. Default "7d". */
  retain?: Duration;
}

/** Where a cache's entries are kept while no page holds them. */
export interface Store {
  /** Stores what has changed. Rejects with what the browser says, of a full disk for example: it is then still to be stored. */
  flush(): Promise<void>;
  /** Forgets all that is stored, as when somebody signs out. The cache keeps what it holds. */
  clear(): Promise<void>;
  /** Stores what has changed, and from then on nothing. To be called before the cache is disposed of. */
  close(): Promise<void>;
}

/** What the database holds under each key: see docs/snapshot-format.md. */
interface Stored {
  readonly key: string;
  readonly takenAt: number;
  readonly entry: unknown;
}

/** How long what changes is gathered before it is stored in one go, in milliseconds. */
const pause = 1000;

/**
 * Keeps what a cache holds in the browser (IndexedDB), over reloads of the page. Takes in what is stored, as old as it is,
 * where nothing is held yet; from then on stores what changes: a second later, or as soon as nobody looks at the page.
 * `noStore` values are never stored (RFC 9111 §5.2.2.5); what is invalidated or deleted is forgotten here too.
 * Rejects with what the browser says where there is no database to be had; the cache works without.
 * @throws CistaError code "duration"; code "store" where there is no page, as on a server
 */
export async function openStore(cache: Cache, options: StoreOptions = {}): Promise<Store> {
  if (typeof document === "undefined" || typeof indexedDB === "undefined") {
    throw new CistaError(
      "store",
      "openStore keeps entries in a page's own database, and there is no page here: call it in the browser only. On a server, take a snapshot and send it along with the page.",
    );
  }
  const { name = "cista", retain = "7d" } = options;
  const sources = options.sources && new Set(options.sources.map((source) => source.name));
  const empty = cache.snapshot({ where: () => false });
  const { partition } = empty;
  const oldest = empty.takenAt - milliseconds(retain, "retain");
  const database = createStore(partition === undefined ? name : `${name} ${partition}`, "entries");
  /** The keys of what is stored otherwise than it is held. */
  const changed = new Set<string>();
  let timer: ReturnType<typeof setTimeout> | undefined;
  let warned = false;

  const environment = pageEnvironment();
  const ends: (() => void)[] = [];
  for (const { key, source, reading } of cache.entries()) {
    if (reading.state === "ready" || reading.state === "missing") changedIn(key, source); // newer than what is stored
  }
  try {
    ends.push(cache.journal.subscribe(note, ["answer", "unchanged", "missing", "put", "invalidate", "evict"]));
    ends.push(environment.subscribe(() => environment.visible || flushBehind()));
    await takeIn();
  } catch (thrown) {
    end();
    throw thrown;
  }
  return {
    flush,
    async clear() {
      changed.clear();
      await clear(database);
    },
    async close() {
      end();
      await flush();
    },
  };

  async function takeIn(): Promise<void> {
    const stored = await values<Stored | null>(database);
    const good = stored.filter(isStored).filter(({ takenAt }) => takenAt >= oldest);
    // What happened to one while the database was being opened is newer.
    for (const [takenAt, some] of byTime(good.filter(({ key }) => !changed.has(key)))) {
      cache.restore({ ...empty, takenAt, entries: some.map(({ entry }) => entry) });
    }
    if (good.length === stored.length) return;
    const kept = new Set(good.map(({ key }) => key));
    for (const key of await keys<string>(database)) if (!kept.has(key)) changed.add(key);
    flushSoon();
  }

  function note({ key, source, kind, note }: JournalEvent): void {
    if (kind === "evict" && note !== "deleted") return; // the memory lets it go, the store does not
    if (key !== undefined && source !== undefined) changedIn(key, source);
  }

  function changedIn(key: string, source: string): void {
    if (sources?.has(source) === false) return;
    changed.add(key);
    flushSoon();
  }

  function flushSoon(): void {
    timer ??= setTimeout(flushBehind, pause);
  }

  function flushBehind(): void {
    flush().catch((thrown) => {
      if (thrown instanceof CistaError) return end(); // the cache was disposed of
      const text = "Cista: what changed could not be stored, and is tried again with the next change:";
      if (!warned) console.warn(text, thrown);
      warned = true;
    });
  }

  async function flush(): Promise<void> {
    clearTimeout(timer);
    timer = undefined;
    if (changed.size === 0) return;
    const snapshots = Array.from(changed, (key) => [key, cache.snapshot({ key })] as const);
    changed.clear();
    try {
      await database("readwrite", (store) => {
        for (const [key, { takenAt, entries }] of snapshots) {
          if (entries.length > 0) put(store, { key, takenAt, entry: entries[0] });
          else store.delete(key);
        }
        return promisifyRequest(store.transaction);
      });
    } catch (thrown) {
      for (const [key] of snapshots) changed.add(key);
      throw thrown;
    }
  }

  function end(): void {
    clearTimeout(timer);
    for (const end of ends) end();
  }
}

function isStored(record: Stored | null): record is Stored {
  return typeof record?.key === "string" && Number.isFinite(record.takenAt) && record.takenAt >= 0;
}

/** What was stored at one time is one snapshot; the newest first, should there be more than the cache's capacity. */
function byTime(stored: readonly Stored[]): [takenAt: number, stored: Stored[]][] {
  const times = new Map<number, Stored[]>();
  for (const each of stored) {
    const others = times.get(each.takenAt);
    if (others) others.push(each);
    else times.set(each.takenAt, [each]);
  }
  return [...times].sort(([one], [other]) => other - one);
}

/** One that cannot be stored, a value with functions in it for example, takes nothing else with it. */
function put(store: IDBObjectStore, stored: Stored): void {
  try {
    store.put(stored, stored.key);
  } catch (thrown) {
    store.delete(stored.key);
    console.warn(`Cista: ${stored.key} cannot be stored:`, thrown);
  }
}
