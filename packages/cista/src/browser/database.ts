import { type DBSchema, type IDBPDatabase, openDB, unwrap } from "idb";
import { CistaError } from "../core/index.js";
import type { StoreBackend, StoreChanges, StoredRecord } from "./backend.js";

interface Schema extends DBSchema {
  entries: { key: string; value: StoredRecord; indexes: { takenAt: number } };
}

/** How long an open tab of another version may keep this one waiting, in milliseconds. */
const openTimeout = 5000;

/** The browser's database under one store: records by key. */
export class Database implements StoreBackend {
  readonly #database: IDBPDatabase<Schema>;

  private constructor(database: IDBPDatabase<Schema>) {
    this.#database = database;
  }

  /**
   * @param onClosed the database is being deleted, or the browser takes it away: nothing can be stored any more
   * @throws the browser's error; CistaError code "database-timeout" where it does not open within five seconds
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
            "database-timeout",
            DEVELOPMENT &&
              `The database "${name}" did not open within ${openTimeout / 1000} s: another tab keeps it in use. The cache works without it.`,
          ),
        );
      }, openTimeout);
    });
    opening.then((database) => late && database.close()).catch(() => {});
    return new Database(await Promise.race([opening, timeout]));
  }

  async readAll(most: number): Promise<{ records: [string, unknown][]; others: string[] }> {
    const { store } = this.#database.transaction("entries");
    const enough = Number.isFinite(most) ? most + 1 : undefined;
    const [all, keys] = await Promise.all([store.getAll(null, enough), store.getAllKeys(null, enough)]);
    if (all.length <= most) return { records: all.map((record, at) => [keys[at] as string, record]), others: [] };
    const byAge = await store.index("takenAt").getAllKeys();
    const newest = new Set(byAge.slice(-most));
    const records = await Promise.all(
      [...newest].map(async (key): Promise<[string, unknown]> => [key, await store.get(key)]),
    );
    const others = (await store.getAllKeys()).filter((key) => !newest.has(key)); // what is no record is among these
    return { records, others };
  }

  /** All or nothing. */
  async write(changes: StoreChanges): Promise<void> {
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

  async clear(): Promise<void> {
    await this.#database.clear("entries");
  }

  close(): void {
    this.#database.close();
  }
}
