import { type DBSchema, type IDBPDatabase, openDB, unwrap } from "idb";
import { CistaError } from "../core/index.js";

/** One stored entry: see docs/snapshot-format.md. */
export interface StoredRecord {
  readonly key: string;
  readonly takenAt: number;
  /** About how much it takes. */
  readonly bytes: number;
  /** How often somebody had signed out in this browser when it was stored. */
  readonly era: number;
  readonly entry: unknown;
}

/** What one flush changes: a record to be put, or `undefined` for one to be deleted, by key. */
export type Changes = ReadonlyMap<string, StoredRecord | undefined>;

interface Schema extends DBSchema {
  entries: { key: string; value: StoredRecord; indexes: { takenAt: number } };
}

/** How long an open tab of another version may keep this one waiting, in milliseconds. */
const openTimeout = 5000;

/**
 * The browser's database under one store: records by key, the newest first. Any place that can do what these five calls
 * do can take its place.
 */
export class Database {
  readonly #database: IDBPDatabase<Schema>;

  private constructor(database: IDBPDatabase<Schema>) {
    this.#database = database;
  }

  /**
   * @param onClosed somebody deletes the database, or the browser takes it away: nothing can be stored any more
   * @throws what the browser says; CistaError code "store" where it does not open within five seconds
   */
  static async open(name: string, onClosed: () => void): Promise<Database> {
    let late = false;
    const opening = openDB<Schema>(name, 2, {
      upgrade(database, _, __, transaction) {
        const entries = database.objectStoreNames.contains("entries")
          ? transaction.objectStore("entries")
          : database.createObjectStore("entries");
        if (!entries.indexNames.contains("takenAt")) entries.createIndex("takenAt", "takenAt");
      },
      blocking(_, __, { target }) {
        (target as IDBDatabase).close(); // a tab that stays open keeps nobody else from deleting it
        onClosed();
      },
      terminated: onClosed,
    });
    const timeout = new Promise<never>((_, reject) => {
      setTimeout(() => {
        late = true;
        reject(
          new CistaError(
            "store",
            DEVELOPMENT &&
              `The database "${name}" did not open within ${openTimeout / 1000} s: another tab keeps it in use. The cache works without it.`,
          ),
        );
      }, openTimeout);
    });
    opening.then((database) => late && database.close()).catch(() => {});
    return new Database(await Promise.race([opening, timeout]));
  }

  /** The newest records, at most so many, and the keys of all others. What is no record is among those. */
  async readNewest(most: number): Promise<{ records: unknown[]; others: string[] }> {
    const { store } = this.#database.transaction("entries");
    const [all, under] = await Promise.all([store.getAll(null, most + 1), store.getAllKeys(null, most + 1)]);
    if (all.length <= most) return { records: all.map((record, at) => ({ under: under[at], record })), others: [] };
    const keys = await store.index("takenAt").getAllKeys();
    const newest = new Set(keys.slice(-most));
    const records = await Promise.all([...newest].map(async (under) => ({ under, record: await store.get(under) })));
    const others = (await store.getAllKeys()).filter((key) => !newest.has(key));
    return { records, others };
  }

  /** All or nothing. */
  async write(changes: Changes): Promise<void> {
    const { store, done } = this.#database.transaction("entries", "readwrite");
    const plain = unwrap(store) as IDBObjectStore; // a thousand promises, one for each, would be for nobody
    try {
      for (const [key, record] of changes) {
        if (!record || !this.#put(plain, key, record)) plain.delete(key);
      }
    } catch (thrown) {
      done.catch(() => {}); // what was put before goes with it
      store.transaction.abort();
      throw thrown;
    }
    await done;
  }

  /** One that cannot be stored, a value with functions in it for example, takes nothing else with it. */
  #put(store: IDBObjectStore, key: string, record: StoredRecord): boolean {
    try {
      store.put(record, key); // what goes wrong from here on the transaction tells
      return true;
    } catch (thrown) {
      if ((thrown as DOMException)?.name !== "DataCloneError") throw thrown;
      console.warn(`Cista: ${key} cannot be stored:`, thrown);
      return false;
    }
  }

  /** The oldest records, until at most so many are left. */
  async trim(most: number): Promise<string[]> {
    const { store, done } = this.#database.transaction("entries", "readwrite");
    const surplus = (await store.count()) - most;
    const keys = surplus > 0 ? (await store.index("takenAt").getAllKeys()).slice(0, surplus) : [];
    for (const key of keys) void store.delete(key).catch(() => {});
    await done;
    return keys;
  }

  /** Forgets all that was stored in another era than this one. */
  async keepOnly(era: number): Promise<void> {
    const { store, done } = this.#database.transaction("entries", "readwrite");
    const [records, keys] = await Promise.all([store.getAll(), store.getAllKeys()]);
    const others = keys.filter((_, at) => (records[at] as StoredRecord | null)?.era !== era);
    for (const key of others) void store.delete(key).catch(() => {});
    await done;
  }

  async clear(): Promise<void> {
    await this.#database.clear("entries");
  }

  close(): void {
    this.#database.close();
  }
}
