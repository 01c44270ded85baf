/** One stored entry: see docs/snapshot-format.md. */
export interface StoredRecord {
  readonly key: string;
  readonly takenAt: number;
  /** About how much it takes. */
  readonly bytes: number;
  /** How many sign-outs there had been in this browser when it was stored. */
  readonly era: number;
  /** Two bytes of the hash of each group that the entry is in, its URL too: enough to find it by a change, too few to tell a URL by. */
  readonly marks?: readonly number[];
  readonly entry: unknown;
}

/** The changes of one flush: a record to be put, or `undefined` for one to be deleted, by key. */
export type StoreChanges = ReadonlyMap<string, StoredRecord | undefined>;

/**
 * Where a store keeps its records: IndexedDB, unless `openStore` is given another. Whatever is read is checked, so a backend
 * need not know what a record is.
 * @example
 * const files = new Map<string, StoredRecord>(); // a desktop shell's own storage, for example
 * const backend: StoreBackend = {
 *   readAll: async () => ({ records: [...files], others: [] }),
 *   write: async (changes) => changes.forEach((record, key) => (record ? files.set(key, record) : files.delete(key))),
 *   clear: async () => files.clear(),
 * };
 */
export interface StoreBackend {
  /** The newest records, by their keys, at most so many; and the keys of all others. */
  readAll(
    most: number,
  ): Promise<{ records: readonly (readonly [key: string, record: unknown])[]; others: readonly string[] }>;
  /** All or nothing. A record that cannot be stored by its nature is left out, with a warning, and takes nothing else with it. */
  write(changes: StoreChanges): Promise<void>;
  clear(): Promise<void>;
  /** Called once, when the store is closed. */
  close?(): void;
}
