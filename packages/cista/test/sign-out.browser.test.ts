import { createCache, entriesOf, source } from "cista";
import { openStore, pageEnvironment, type StoreOptions } from "cista/browser";
import { expect, test, vi } from "vitest";
import { watch } from "./stage.js";

// Two users of one browser, one after the other; a "tab" is a cache with a store of its own on the same database.

let user = "ada";
const gates: ((value: string) => void)[] = [];
const hut = source({
  name: "hut",
  retry: false,
  load: (id: number): Promise<string> => {
    const whose = user;
    return new Promise((answer) => gates.push(() => answer(`${whose}'s secret ${id}`)));
  },
});
const answerAll = async () => {
  for (const gate of gates.splice(0)) gate("");
  await new Promise((done) => setTimeout(done));
};

let databases = 0;
const name = () => `sign-out ${++databases}`;
async function tab(database: string, options: StoreOptions = {}) {
  const cache = createCache();
  return { cache, store: await openStore(cache, { name: database, ...options }) };
}

/** All that is in the database, as text. */
async function stored(database: string): Promise<string> {
  const opened = indexedDB.open(encodeURIComponent(database));
  await new Promise((done) => (opened.onsuccess = done));
  const all = opened.result.transaction("entries").objectStore("entries").getAll();
  await new Promise((done) => (all.onsuccess = done));
  opened.result.close();
  return JSON.stringify(all.result);
}

type Moment = "answer" | "sign out" | "reload" | "other tab";
const orders = (left: Moment[]): Moment[][] =>
  left.length === 0
    ? [[]]
    : left.flatMap((one) => orders(left.filter((each) => each !== one)).map((rest) => [one, ...rest]));

test.each(orders(["answer", "sign out", "reload", "other tab"]))(
  "S4: nothing of the first user is left or shown: %s, %s, %s, %s",
  async (...order) => {
    const database = name();
    user = "ada";
    const open = [await tab(database), await tab(database)];
    for (const { cache } of open) cache.put(hut, 0, "ada's first");
    await open[0]?.store.flush();
    const asks = () => open.map(({ cache }) => cache.read(hut, 1).catch(() => {}));
    asks();
    let signedOut = false;
    const moments: Record<Moment, () => Promise<unknown>> = {
      answer: answerAll,
      async "sign out"() {
        signedOut = true;
        const done = open[0]?.cache.signOut();
        user = "bob";
        await done;
      },
      async reload() {
        open[0] = await tab(database);
        if (!signedOut) asks();
      },
      async "other tab"() {
        open[1]?.cache.put(hut, 2, "ada's, from the other tab");
        await open[1]?.store.flush().catch(() => {});
      },
    };
    for (const moment of order) {
      if (moment === "other tab" && signedOut)
        await vi.waitFor(() => expect(open[1]?.cache.peek(hut, 0).state).toBe("empty"));
      else await moments[moment]();
    }
    await answerAll();
    for (const { store } of open) await store.flush().catch(() => {});
    await vi.waitFor(async () => {
      const bob = await tab(database);
      expect([0, 1, 2].map((id) => bob.cache.peek(hut, id).value)).toEqual([undefined, undefined, undefined]);
      await bob.store.close();
      expect(await stored(database)).not.toContain("ada");
    });
    // Other tabs hear of it by a message.
    const shown = () => open.flatMap(({ cache }) => [...entriesOf(cache)].map(({ reading }) => reading));
    await vi.waitFor(() => expect(JSON.stringify(shown())).not.toContain("ada"));
  },
);

test("S4: a page does not hear its own sign-out: its later puts and reads stay", async () => {
  const page = createCache();
  const other = createCache(); // in the same page: a channel of its own
  const environment = pageEnvironment();
  const sharing = [createCache({ environment }), createCache({ environment })];
  for (const cache of [page, other, ...sharing]) cache.put(hut, 1, "ada's");
  const heard = vi.fn();
  page.onSignOut(heard);
  sharing[0]?.onSignOut(heard);
  await page.signOut();
  page.put(hut, 1, "bob's");
  const read = page.read(hut, 2);
  await vi.waitFor(() => expect(other.peek(hut, 1).state).toBe("empty"));
  await answerAll();
  expect([await read, page.peek(hut, 1).value, heard.mock.calls.length]).toEqual([`${user}'s secret 2`, "bob's", 2]);
  heard.mockClear();
  await sharing[0]?.signOut(); // two caches of one environment are others to each other
  sharing[0]?.put(hut, 1, "cleo's");
  sharing[1]?.put(hut, 1, "ada's");
  await vi.waitFor(() => expect(sharing[1]?.peek(hut, 1).state).toBe("empty"));
  expect([sharing[0]?.peek(hut, 1).value, heard.mock.calls.length]).toEqual(["cleo's", 2]);
  for (const cache of [page, other, ...sharing]) cache.dispose();
});

test("S4: a watched entry is empty after a sign-out, with nothing under way, until a component asks anew", async () => {
  const cache = createCache();
  const { view } = watch(cache, hut, 3);
  expect(view.get()).toMatchObject({ state: "loading", request: "running" });
  await cache.signOut();
  expect(view.get()).toMatchObject({ state: "empty", request: "none" });
  const { view: next } = watch(cache, hut, 3);
  expect(next.get()).toMatchObject({ state: "loading", request: "running" });
  await answerAll();
  await vi.waitFor(() => expect(view.get().state).toBe("ready"));
  cache.dispose();
});

test("S4: a page that ends in the middle of a sign-out has signed out all the same", async () => {
  const database = name();
  const { cache, store } = await tab(database);
  cache.put(hut, 1, "ada's");
  await store.flush();
  vi.spyOn(IDBDatabase.prototype, "transaction").mockImplementation(() => {
    throw new Error("the page is gone");
  });
  await cache.signOut().catch(() => {});
  vi.restoreAllMocks();
  const bob = await tab(database);
  expect(bob.cache.peek(hut, 1).state).toBe("empty");
  await bob.store.flush();
  expect(await stored(database)).not.toContain("ada");
});

test("S1: a store keeps within its bounds of records, bytes and one value", async () => {
  const warn = vi.spyOn(console, "warn").mockReturnValue(undefined);
  const database = name();
  const { cache, store } = await tab(database, { capacity: 5, maxBytes: 20_000 });
  for (let id = 0; id < 8; id++) {
    cache.put(hut, id, `value ${id}`);
    await store.flush();
  }
  expect(JSON.parse(await stored(database)).map(({ key }: any) => key)).toEqual(
    [3, 4, 5, 6, 7].map((id) => `hut ${id}`),
  );
  cache.put(hut, 8, "x".repeat(10_000));
  await store.flush();
  expect([await stored(database), String(warn.mock.lastCall?.[0])]).toEqual([
    expect.not.stringContaining("hut 8"),
    expect.stringContaining("too large"),
  ]); // prettier-ignore
  const put = IDBObjectStore.prototype.put;
  vi.spyOn(IDBObjectStore.prototype, "put").mockImplementation(function (this: IDBObjectStore, record: any, key) {
    if (record.key === "hut 9") throw new DOMException("no room", "QuotaExceededError");
    return put.call(this, record, key);
  });
  cache.put(hut, 9, "no room for this");
  cache.put(hut, 1, "but for this");
  await store.flush();
  vi.restoreAllMocks();
  expect(await stored(database)).toContain("but for this");
});

test("S1: sources that are no longer stored are forgotten; names never meet", async () => {
  const database = name();
  const first = await tab(database);
  first.cache.put(hut, 1, "stored");
  await first.store.close();
  const other = source({ name: "other", load: async () => 1 });
  const narrowed = await tab(database, { sources: [other] });
  expect(narrowed.cache.peek(hut, 1).state).toBe("empty");
  expect(await stored(database)).toBe("[]");
  await narrowed.store.close();

  const partitioned = createCache({ partition: "ada" });
  partitioned.put(hut, 1, "in a partition");
  await (await openStore(partitioned, { name: database })).close();
  expect((await tab(`${database} ada`)).cache.peek(hut, 1).state).toBe("empty");

  const last = await tab(database);
  const { leave } = watch(last.cache, other);
  const deleting = indexedDB.deleteDatabase(encodeURIComponent(database)); // it was blocked while a tab was open
  await new Promise((done) => (deleting.onsuccess = done));
  last.cache.put(hut, 1, "the cache works without");
  leave();
  expect((await tab(database)).cache.peek(hut, 1).state).toBe("empty");
});
