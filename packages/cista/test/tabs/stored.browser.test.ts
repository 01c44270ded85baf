import { createCache, source, write } from "cista";
import { joinTabs, openOutbox, openStore, type StoreBackend, type StoredRecord } from "cista/browser";
import { expect, test } from "vitest";

/** A store of its own for each tab, so that one sees which of them has stored. */
function backendIn(records: Map<string, StoredRecord>): StoreBackend {
  return {
    readAll: async () => ({ records: [], others: [] }),
    async write(changes) {
      for (const [key, record] of changes) if (record) records.set(key, record);
    },
    clear: async () => records.clear(),
  };
}

test("B1: an answer is stored by the tab that asked alone", async () => {
  const hut = source({ name: "hut", maxAge: "1h", load: async (id: number) => ({ id }) });
  const tabs = await Promise.all(
    [1, 2].map(async () => {
      const cache = createCache();
      const records = new Map<string, StoredRecord>();
      const joined = await joinTabs(cache, { name: "stored" });
      const store = await openStore(cache, { backend: backendIn(records) });
      return { cache, joined, records, store };
    }),
  );
  await expect.poll(() => tabs.map(({ joined }) => joined.others)).toEqual([1, 1]);
  for (const { cache } of tabs) cache.view(hut, 1).subscribe(() => {});
  await expect.poll(() => tabs.map(({ cache }) => cache.peek(hut, 1).value?.id)).toEqual([1, 1]);
  for (const { store } of tabs) await store.flush();
  expect(tabs.map(({ records }) => records.size).sort()).toEqual([0, 1]);
  for (const { cache, joined } of tabs) {
    joined.close();
    cache.dispose();
  }
});

test("O1: a write that is run after the database was deleted is kept", async () => {
  const cache = createCache();
  const sent: number[] = [];
  const book = write<number, void>({ name: "book", kept: true, send: async (hut) => void sent.push(hut) });
  const outbox = await openOutbox(cache, { writes: [book], name: "cleared" });
  await cache.run(book, 1);
  await new Promise((deleted) => {
    indexedDB.deleteDatabase("cleared/outbox").onsuccess = deleted;
  });
  await cache.run(book, 2);
  expect(sent).toEqual([1, 2]);
  expect((await indexedDB.databases()).map(({ name }) => name)).toContain("cleared/outbox");
  outbox.close();
  cache.dispose();
});
