import { answer, type CacheOptions, composite, createCache, entriesOf, missing, source, unchanged } from "cista";
import { openStore, type StoreBackend, type StoreOptions } from "cista/browser";
import { virtualClock } from "cista/rehearsal";
import { afterEach, expect, test, vi } from "vitest";
import { watch } from "./stage.js";

afterEach(() => vi.restoreAllMocks());

const hut = source({ name: "hut", maxAge: "1m", load: async (id: number): Promise<any> => `loaded ${id}` });
/** There is no second one, and the first never changes. */
const route = source({
  name: "route",
  maxAge: "1m",
  load: async (id: number, { held }) => (id === 2 ? missing() : held ? unchanged() : answer("the high route")),
});
const notice = source({ name: "notice", maxAge: "1m", load: async (_: number): Promise<any> => "loaded" });

let databases = 0;
/** One page after another with one database, each a minute later. */
function pages(name = `test ${++databases}`) {
  let start = virtualClock().now();
  return async (options: { cache?: CacheOptions; store?: StoreOptions } = {}) => {
    const clock = virtualClock(start);
    start += 60_000;
    const cache = createCache({ clock, ...options.cache });
    return { cache, clock, store: await openStore(cache, { name, ...options.store }) };
  };
}
const held = ({ cache }: { cache: ReturnType<typeof createCache> }, ids = [1, 2, 3, 4]) =>
  ids.map((id) => cache.peek(hut, id).value);

test("S1: over a reload a value is held again, with its age", async () => {
  const page = pages();
  const first = await page();
  first.cache.put(hut, 1, { water: 90 }, { age: "10s", validator: { etag: '"a"' } });
  first.cache.put(hut, 2, "deleted later");
  first.cache.put(hut, 3, "secret", { noStore: true });
  watch(first.cache, hut, 3);
  first.cache.put(hut, 4, "doubted later");
  await first.store.flush();
  first.cache.delete({ source: hut, params: 2 });
  first.cache.invalidate({ source: hut, params: 4 });
  await first.store.close();
  first.cache.put(hut, 2, "after the end");
  await first.store.flush();
  first.cache.dispose();

  const second = await page();
  expect(held(second)).toEqual([{ water: 90 }, undefined, undefined, undefined]);
  const [info] = [...entriesOf(second.cache)];
  expect(info).toMatchObject({ key: "hut 1", staleAt: second.clock.now() - 10_000 });
  await second.cache.read(hut, 2); // by a request too
  await second.store.flush();
  await second.clock.advance("10m"); // the memory lets go of both, the store does not
  expect([...entriesOf(second.cache)]).toEqual([]);
  await second.store.close();

  const third = await page();
  expect(held(third)).toEqual([{ water: 90 }, "loaded 2", undefined, undefined]);
  await third.store.clear();
  expect(held(third, [1])).toEqual([{ water: 90 }]);
  expect(held(await page())).toEqual([undefined, undefined, undefined, undefined]);
});

test("an unchanged answer, and that there is no such thing, are kept too", async () => {
  const page = pages();
  const first = await page();
  for (const id of [1, 2]) watch(first.cache, route, id);
  await first.clock.advance(0);
  await first.store.close();
  const second = await page();
  expect([1, 2].map((id) => second.cache.peek(route, id).state)).toEqual(["ready", "missing"]);
  await second.cache.view(route, 1).revalidate();
  await second.store.close();
  const third = await page();
  expect(third.cache.peek(route, 1)).toMatchObject({ value: "the high route", asOf: third.clock.now() - 60_000 });
});

test("S1: only the sources named are stored, and each partition sees its own", async () => {
  const page = pages();
  const ada = await page({ cache: { partition: "ada" }, store: { sources: [hut], keepFor: "90s" } });
  ada.cache.put(hut, 1, "ada's");
  ada.cache.put(notice, 1, "not to be stored");
  await ada.store.flush();
  expect(held(await page({ cache: { partition: "bram" } }), [1])).toEqual([undefined]);
  const again = await page({ cache: { partition: "ada" }, store: { keepFor: "2m" } });
  expect([held(again, [1]), again.cache.peek(notice, 1).value]).toEqual([["ada's"], undefined]);
  const late = page({ cache: { partition: "ada" }, store: { keepFor: "90s" } });
  expect(held(await late, [1])).toEqual([undefined]);
  await (await late).store.flush();
  expect(held(await page({ cache: { partition: "ada" } }), [1])).toEqual([undefined]); // really gone

  const name = `test ${++databases}`;
  const before = createCache();
  for (const id of [1, 2]) before.put(hut, id, "stored"); // before there was a store: stored all the same
  await (await openStore(before, { name })).close();
  const between = createCache();
  const never = source({ ...hut.definition, load: () => new Promise<never>(() => {}) });
  const { leave } = watch(between, never, 1); // asked for already, and nothing held
  await (await openStore(between, { name })).close();
  expect([1, 2].map((id) => between.peek(never, id).value)).toEqual(["stored", "stored"]);
  leave();
  const cache = createCache();
  const store = openStore(cache, { name });
  cache.put(hut, 1, "newer");
  cache.put(hut, 2, "newer");
  cache.delete({ source: hut, params: 2 });
  await store;
  expect(held({ cache }, [1, 2])).toEqual(["newer", undefined]);
});

test("a page that is hidden has stored its changes", async () => {
  const page = pages();
  const { cache } = await page();
  const timers = vi.spyOn(globalThis, "setTimeout").mockReturnValue(0 as never); // the second never passes
  cache.put(hut, 1, "just now");
  timers.mockRestore();
  vi.spyOn(document, "visibilityState", "get").mockReturnValue("hidden");
  document.dispatchEvent(new Event("visibilitychange"));
  await expect.poll(async () => held(await page(), [1])).toEqual(["just now"]);
});

test("S1: a value that cannot be stored takes nothing else with it", async () => {
  const warn = vi.spyOn(console, "warn").mockReturnValue(undefined);
  const page = pages();
  const { cache, store } = await page();
  cache.put(hut, 1, { open: () => {} });
  cache.put(hut, 2, "fine");
  await store.flush();
  expect(warn.mock.lastCall?.[0]).toBe("Cista: hut 1 cannot be stored:");
  cache.put(hut, 3, "kept for later");
  const full = new DOMException("no room", "QuotaExceededError");
  const refused = vi.spyOn(IDBDatabase.prototype, "transaction").mockImplementation(() => {
    throw full;
  });
  await expect(store.flush()).rejects.toBe(full);
  refused.mockRestore();
  await store.flush();
  expect(held(await page())).toEqual([undefined, "fine", "kept for later", undefined]);
});

test("S1: foreign records are dropped, never the rest", async () => {
  const page = pages();
  const { cache, store } = await page({ store: { name: "tampered" } });
  cache.put(hut, 1, "good");
  await store.close();
  await new Promise<void>((done) => {
    indexedDB.open("tampered").onsuccess = ({ target }) => {
      const write = (target as IDBOpenDBRequest).result.transaction("entries", "readwrite");
      const records = [Number.NaN, "1e99", -1, 1e15].map((takenAt) => ({ key: "hut 2", takenAt, entry: { kind: 7 } }));
      const foreign = [null, 7, "text", {}, { key: 1, takenAt: 1, entry: null }, ...records];
      for (const [n, record] of foreign.entries()) write.objectStore("entries").put(record, `foreign ${n}`);
      write.oncomplete = () => done();
    };
  });
  expect(held(await page({ store: { name: "tampered" } }), [1])).toEqual(["good"]);

  vi.spyOn(indexedDB, "open").mockImplementation(() => {
    throw new DOMException("not here", "SecurityError");
  });
  const without = createCache({ retain: Number.POSITIVE_INFINITY });
  await expect(openStore(without, { name: "nowhere" })).rejects.toThrow("not here");
  const timers = vi.spyOn(globalThis, "setTimeout");
  without.put(hut, 1, "good");
  expect(timers).not.toHaveBeenCalled();
  expect(await without.read(hut, 1)).toBe("good");
  without.dispose();
});

test.each<[string, (page: Awaited<ReturnType<ReturnType<typeof pages>>>) => unknown, string | undefined]>([
  ["gets another value", ({ cache }) => cache.put(hut, 1, "newer"), "by loaded 1"],
  ["is invalidated", ({ cache }) => cache.invalidate(hut), undefined],
  ["is deleted", ({ cache }) => cache.delete(hut), "by loaded 1"],
])("S1: a composite that is stored is stale over a reload once its dependency %s", async (_, change, shown) => {
  let loaded = 0;
  const day = composite({
    name: "day",
    maxAge: "1h",
    params: false,
    load: async (_, { read }) => `by ${await read(hut, 1)}${loaded++ ? " again" : ""}`,
  });
  const week = composite({ name: "week", maxAge: "1h", params: false, load: async (_, { read }) => read(day) });
  const page = pages();
  const first = await page();
  await first.cache.read(week);
  await first.store.flush();
  await change(first);
  await first.clock.advance(1);
  await first.store.close();
  const second = await page();
  for (const source of [day, week]) {
    const { value, fresh } = second.cache.peek(source);
    expect([value, fresh ?? false]).toEqual([shown, false]);
  }
  const { view } = watch(second.cache, week);
  for (let turn = 0; turn < 4; turn++) await second.clock.advance(1);
  expect(view.get()).toMatchObject({ value: expect.stringMatching(/again$/), fresh: true });
});

test("S1: a store stands on any backend of three calls, and keeps its bounds there", async () => {
  const files = new Map<string, unknown>();
  const backend: StoreBackend = {
    readAll: async (most) => ({
      records: [...files].slice(-most),
      others: [...files.keys()].slice(0, Math.max(0, files.size - most)),
    }),
    write: async (changes) => {
      for (const [key, record] of changes) {
        files.delete(key);
        if (record) files.set(key, record);
      }
    },
    clear: async () => files.clear(),
  };
  const page = pages();
  const first = await page({ store: { backend, capacity: 2 } });
  for (const id of [1, 2, 3]) first.cache.put(hut, id, `hut ${id}`);
  await first.store.close();
  expect([...files.keys()]).toEqual(["hut 2", "hut 3"]);
  files.set("hut 4", "what somebody else put there");
  const second = await page({ store: { backend } });
  expect(held(second)).toEqual([undefined, "hut 2", "hut 3", undefined]);
  await second.cache.signOut();
  expect(files.size).toBe(0);
});
