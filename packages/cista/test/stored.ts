import type { StoreBackend, StoredRecord } from "cista/browser";

/** A store's database in memory. */
export function database() {
  const stored = new Map<string, StoredRecord>();
  const backend: StoreBackend = {
    readAll: async () => ({ records: [...stored], others: [] }),
    write: async (changed) => {
      for (const [key, record] of changed) record ? stored.set(key, record) : stored.delete(key);
    },
    clear: async () => stored.clear(),
  };
  return { stored, backend };
}
