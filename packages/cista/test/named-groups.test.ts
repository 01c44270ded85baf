import { answer, type Cache, composite, createCache, entriesOf, type Selector, source, takeSnapshot } from "cista";
import { openStore } from "cista/browser";
import { invalidateAfter, writeTo } from "cista/http";
import { virtualClock } from "cista/rehearsal";
import { describe, expect, test } from "vitest";
import { base, json, server } from "./hostile-server.js";
import { heldSource, inShort, stage, watch } from "./stage.js";
import { database } from "./stored.js";
import { World } from "./tabs/world.js";

// Rules R2, W3, B3, S1: what is invalidated by a group or a URL, and is not held where the change is made.

const lifetime = { "cache-control": "max-age=600" };

/** Huts of two regions. The server answers as it is when it is asked, after a while. */
function board({ cache, clock } = stage()) {
  const at = { version: 1, status: 200 };
  const later = () => new Promise<void>((resolve) => void clock.setTimer(resolve as () => void, 100));
  const { api, seen } = server(async (url, { method }) => {
    if (method === "POST") return json({}, { "cache-group-invalidation": '"huts"' }, 201);
    if (method === "PUT") return new Response(null, { status: 204 });
    const { version, status } = at;
    await later();
    const groups = url.pathname === "/api/huts" ? { "cache-groups": '"huts"' } : {};
    return json(`v${version}`, { ...lifetime, ...groups }, status);
  });
  const huts = api.source<void, string>({ name: "huts", url: "/api/huts", groups: () => ["own"], retry: false });
  const trails = api.source<void, string>({ name: "trails", url: "/api/trails", retry: false });
  const book = writeTo<void, unknown>(api, { name: "book", method: "POST", url: "/api/bookings" });
  const replace = writeTo<void, unknown>(api, { name: "replace", method: "PUT", url: "/api/huts" });
  return { cache, clock, at, seen, huts, trails, book, replace };
}
type Board = ReturnType<typeof board>;

const changes: [string, (board: Board) => unknown][] = [
  ["the groups of a write's answer", ({ cache, book }) => cache.run(book)],
  ["the URL of a write", ({ cache, replace }) => cache.run(replace)],
  ["a group of the answer", ({ cache }) => cache.invalidate({ group: "huts" })],
  ["a group of the definition", ({ cache }) => cache.invalidate({ group: "own" })],
  ["a group of one origin", ({ cache }) => cache.invalidate({ group: "huts", origin: base })],
  ["the deletion of a group", ({ cache }) => cache.delete({ group: "huts" })],
];

describe("R2: the first answer of an entry, that began before a change by", () => {
  test.each(changes)("%s, is requested again", async (_, change) => {
    const its = board();
    const { cache, clock, at, huts, trails, seen } = its;
    const { view } = watch(cache, huts);
    const other = watch(cache, trails);
    await clock.advance(50);
    at.version = 2;
    await change(its);
    const read = cache.read(huts);
    await clock.advance(300);
    expect([view.get().value, await read, other.view.get().value]).toEqual(["v2", "v2", "v1"]);
    expect(seen.filter(({ init }) => init.method === "GET").map(({ url }) => url.slice(base.length + 5))).toEqual([
      "huts",
      "trails",
      "huts",
    ]);
  });

  test("R2: more than a hundred groups, is requested again", async () => {
    const { cache, clock, at, huts } = board();
    const { view } = watch(cache, huts);
    await clock.advance(50);
    at.version = 2;
    cache.invalidate({ group: "huts" });
    for (let n = 0; n < 100; n++) cache.invalidate({ group: `other ${n}` });
    await clock.advance(300);
    expect(view.get().value).toBe("v2");
  });

  test("D1: more than a hundred groups, does not count for a composite that is requested after them", async () => {
    const { cache, clock, huts, trails } = board();
    const count = composite({
      name: "count",
      maxAge: "1h",
      params: false,
      load: async (_, { read }) => (await read(huts)).length,
    });
    const { view } = watch(cache, count);
    await clock.advance(200);
    void cache.read(trails);
    cache.invalidate(huts);
    for (let n = 0; n <= 100; n++) cache.invalidate({ group: `other ${n}` });
    await clock.advance("10s");
    expect(view.get()).toMatchObject({ fresh: true, request: "none" });
  });

  test("R2: it is the answer of those who came before the change", async () => {
    const { cache, clock, huts } = board();
    const read = cache.read(huts);
    await clock.advance(50);
    cache.invalidate({ group: "huts" });
    await clock.advance(60);
    expect([await read, inShort(cache.peek(huts))]).toEqual(["v1", 'ready "v1" stale']);
  });

  test.each([
    ["before it began", -50],
    ["of another origin", 50],
  ])("R2: is fresh after a change %s", async (_, when) => {
    const { cache, clock, huts } = board();
    const origin = when < 0 ? base : "https://other.example";
    const others = source({ name: "others", load: () => new Promise<string>(() => {}) });
    watch(cache, others); // something is under way all the time
    if (when < 0) cache.invalidate({ group: "huts", origin });
    const { view } = watch(cache, huts);
    await clock.advance(50);
    if (when > 0) cache.invalidate({ group: "huts", origin });
    await clock.advance(100);
    expect(inShort(view.get())).toBe('ready "v1"');
  });
});

test("W3: a write to the URL that a read was redirected to reaches the read's entry", async () => {
  const { cache, clock } = stage();
  const at = { version: 1 };
  const { api } = server((url, { method, headers }) => {
    if (method === "PUT") return new Response(null, { status: 204 });
    if (!url.pathname.endsWith("/")) return new Response(null, { status: 308, headers: { location: "/api/huts/" } });
    if (headers.get("if-none-match") === `"${at.version}"`) return new Response(null, { status: 304 });
    return json(`v${at.version}`, { ...lifetime, etag: `"${at.version}"` });
  });
  const huts = api.source<void, string>({ name: "huts", url: "/api/huts" });
  const replace = writeTo<void, unknown>(api, { name: "replace", method: "PUT", url: "/api/huts/" });
  const { view } = watch(cache, huts);
  await clock.advance(0);
  await cache.revalidate(huts); // a 304
  at.version = 2;
  await cache.run(replace);
  await clock.advance(0);
  expect(view.get().value).toBe("v2");
});

test("F5: what has failed is requested again after a change by its URL", async () => {
  const { cache, clock, at, huts, replace } = board();
  at.status = 500;
  const { view } = watch(cache, huts);
  await clock.advance(200);
  expect(view.get().state).toBe("failed");
  at.status = 200;
  await cache.run(replace);
  await clock.advance(200);
  expect(inShort(view.get())).toBe('ready "v1"');
});

const answerOfPost = new Response(null, { status: 201, headers: { "cache-group-invalidation": '"huts"' } });
const bookings = `${base}/api/bookings`;
/** By a page that does not hold the huts. */
const changesElsewhere: [string, (cache: Cache, board: Board) => unknown][] = [
  ["the groups of a write's answer", (cache, { book }) => cache.run(book)],
  ["the groups of another answer", (cache) => invalidateAfter(cache, "POST", answerOfPost, bookings)],
  ["the URL of a write", (cache, { replace }) => cache.run(replace)],
];

describe("an entry that is not held where a write changes it, by", () => {
  test.each(changesElsewhere)("B3: %s, is requested again in the tab that holds it", async (_, change) => {
    const world = new World();
    const [one, two] = [world.tab(), world.tab()];
    await Promise.all([one.join(), two.join()]);
    const its = board({ ...stage(), cache: two.cache, clock: world.clock });
    const { view } = watch(two.cache, its.huts);
    await world.clock.advance("2s");
    its.at.version = 2;
    one.cache.peek(one.hut, 1);
    change(one.cache, its);
    await world.clock.advance("2s");
    expect(view.get().value).toBe("v2");
  });

  test.each(changesElsewhere)(
    "S1: %s, is not trusted when it was restored and its source is used later",
    async (_, change) => {
      const first = board();
      void first.cache.read(first.huts);
      await first.clock.advance(200);
      const its = board(stage({ snapshot: takeSnapshot(first.cache) }));
      change(its.cache, its);
      await its.clock.advance(10);
      expect(inShort(its.cache.peek(its.huts))).toBe('ready "v1" stale');
    },
  );

  test.each(changesElsewhere)("S1: %s, is deleted from the store", async (_, change) => {
    const { stored, backend } = database();
    const first = board();
    const store = await openStore(first.cache, { backend });
    void first.cache.read(first.huts);
    await first.clock.advance(200);
    await store.close();
    expect([...stored.keys()]).toEqual(["huts"]);
    const its = board();
    const again = await openStore(its.cache, { backend });
    change(its.cache, its);
    await its.clock.advance(10);
    await again.close();
    expect([...stored.keys()]).toEqual([]);
  });
});

describe("F7: a value that a program puts", () => {
  test("F7: stays in the groups that the server named, and in no group that was made of the value before", async () => {
    const { cache, clock, huts } = board();
    const region = source({
      name: "region",
      load: async () => answer("north", { groups: ["all"] }),
      groups: (_, value) => [`of ${value}`],
    });
    void cache.read(huts);
    await Promise.all([cache.read(region), clock.advance(200)]);
    cache.put(huts, undefined, "v9");
    cache.put(region, undefined, "south");
    expect([...entriesOf(cache)].map(({ groups }) => groups)).toEqual([
      ["huts", "own", `${base}/api/huts`],
      ["all", "of south"],
    ]);
  });

  test("F7: is in the groups that the program names in place of these", async () => {
    const { cache, clock, huts } = board();
    void cache.read(huts);
    await clock.advance(200);
    cache.put(huts, undefined, "v9", { groups: ["mine"] });
    expect([...entriesOf(cache)][0]?.groups).toEqual(["mine", "own", `${base}/api/huts`]);
  });

  test("B3: in one tab, stays in them in another", async () => {
    const world = new World();
    const [one, two] = [world.tab(), world.tab()];
    await Promise.all([one.join(), two.join()]);
    const [here, there] = [one, two].map(({ cache }) => board({ ...stage(), cache, clock: world.clock })) as [
      Board,
      Board,
    ];
    there.cache.read(there.huts);
    await world.clock.advance("2s");
    here.cache.put(here.huts, undefined, "v9", { groups: [] });
    await world.clock.advance("1s");
    expect(there.cache.peek(there.huts).value).toBe("v9");
    expect(there.cache.invalidate({ group: "huts" })).toBe(1);
  });
});

test("H10: a restored composite is of the groups of a dependency that stayed behind, in their origin", async () => {
  const of = (its: Board) =>
    composite({
      name: "count",
      maxAge: "1h",
      params: false,
      load: async (_, { read }) => (await read(its.huts)).length,
    });
  const first = board();
  const count = of(first);
  void first.cache.read(count);
  await first.clock.advance(200);
  const its = board(stage({ snapshot: takeSnapshot(first.cache, count) }));
  its.cache.peek(its.huts);
  await its.cache.run(its.book);
  expect(inShort(its.cache.peek(of(its)))).toBe("ready 2 stale");
});

test("R2: a reader who comes after a change by a group gets the next answer, also where the journal is not heard", async () => {
  const clock = virtualClock();
  const { cache, at, huts, book } = board({ ...stage(), cache: createCache({ clock }), clock });
  const before = cache.read(huts);
  await clock.advance(50);
  at.version = 2;
  await cache.run(book);
  const after = cache.read(huts);
  await clock.advance(300);
  expect([await before, await after]).toEqual(["v1", "v2"]);
});

test("B2: an answer that was requested after a change in another tab is not requested again, though the change is heard later", async () => {
  const world = new World();
  const [one, two] = [world.tab(), world.tab()];
  await Promise.all([one.join(), two.join()]);
  world.delay = 50;
  const its = board({ ...stage(), cache: two.cache, clock: world.clock });
  one.cache.invalidate({ group: "huts" });
  await world.clock.advance(20);
  const { view } = watch(two.cache, its.huts);
  await world.clock.advance("2s");
  expect([inShort(view.get()), its.seen.length]).toEqual(['ready "v1"', 1]);
});

test("R2: a reader who comes after another entry's invalidation, and before its own, gets the answer that is on its way", async () => {
  const { cache, clock } = stage();
  const { source: hut, loads } = heldSource("hut");
  for (const id of [1, 2]) cache.prefetch(hut, id);
  await clock.advance(0);
  cache.invalidate({ source: hut, params: 1 });
  const came = cache.read(hut, 2);
  cache.invalidate({ source: hut, params: 2 });
  loads[1]?.answer("Peat Hag");
  await clock.advance(0);
  expect(await Promise.race([came, "nothing yet"])).toBe("Peat Hag");
});

test("R2: a reload answers those who have waited for the next answer, too", async () => {
  const { cache, clock } = stage();
  const { source: hut, loads } = heldSource("hut");
  watch(cache, hut, 1);
  cache.invalidate(hut);
  const reads = [cache.read(hut, 1), cache.read(hut, 1, { cache: "reload" })];
  await clock.advance(0);
  loads.at(-1)?.answer("v1");
  expect([await Promise.all(reads), loads.length]).toEqual([["v1", "v1"], 2]);
});

test("F7: a group is one within its origin", () => {
  const { cache, huts } = board();
  cache.put(huts, undefined, "v0");
  const said = (selector: Selector) => cache.invalidate(selector);
  expect([said({ group: `${base}/api/huts`, origin: base }), said({ group: "own", origin: "https://huts" })]).toEqual([
    1, 0,
  ]);
});
