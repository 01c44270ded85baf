import {
  answer,
  type Cache,
  composite,
  type Reading,
  restoreSnapshot,
  type Selector,
  type Snapshot,
  source,
  takeSnapshot,
} from "cista";
import { openStore, receivePage } from "cista/browser";
import { openPage } from "cista/server";
import { afterEach, describe, expect, test, vi } from "vitest";
import { renderingOf } from "../src/core/doors/page.js";
import { json, server } from "./hostile-server.js";
import { stage, watch } from "./stage.js";
import { database } from "./stored.js";
import { joined, of as nth } from "./tabs/joined.js";

// Rules S1, H10: changes reach entries that were restored, and are not used yet.

/** A hut, the route to it, and a tour along that route: what a page and a server define alike. */
function defined() {
  const server = { version: 1 };
  const plain = { maxAge: "1h", retry: false } as const;
  const hut = source({
    ...plain,
    name: "hut",
    groups: () => ["huts"],
    load: async (id: number) => answer(`hut ${id} v${server.version}`, { groups: ["north"] }),
  });
  const route = composite({
    ...plain,
    name: "route",
    load: async (id: number, { read }) => `to ${await read(hut, id)}`,
  });
  const tour = composite({
    ...plain,
    name: "tour",
    load: async (id: number, { read }) => `tour ${await read(route, id)}`,
  });
  return { server, hut, route, tour };
}

/** What a page of another cache has held, as text. */
async function snapshotOf(fill: (cache: Cache) => Promise<unknown>, select: Selector = "all"): Promise<Snapshot> {
  const { cache } = stage();
  await fill(cache);
  return JSON.parse(JSON.stringify(takeSnapshot(cache, select)));
}

const minute = "1m";
type Defined = ReturnType<typeof defined>;
type Change = (cache: Cache, of: Defined) => unknown;
const changes: [string, Change][] = [
  ["all", (cache) => cache.invalidate("all")],
  ["its group", (cache) => cache.invalidate({ group: "huts" })],
  [
    "its group, where the sources are in use",
    (cache, { hut, route }) => {
      cache.peek(route, 2);
      cache.peek(hut, 2);
      cache.invalidate({ group: "huts" });
    },
  ],
  ["the group of its answer", (cache) => cache.invalidate({ group: "north" })],
  [
    "the group of its answer, where the sources are in use",
    (cache, { hut, route }) => {
      cache.peek(route, 2);
      cache.peek(hut, 2);
      cache.invalidate({ group: "north" });
    },
  ],
  ["its key", (cache) => cache.invalidate({ key: "hut 1" })],
  [
    "a key, and a hundred others",
    (cache) => {
      cache.invalidate({ key: "hut 1" });
      for (let n = 0; n < 100; n++) cache.invalidate({ key: `other ${n}` });
    },
  ],
];

describe("an entry whose source has not been used yet", () => {
  test.each(changes)("S1: is not trusted after an invalidation by %s", async (_, change) => {
    const of = defined();
    const { cache, clock } = stage({ snapshot: await snapshotOf((its) => its.read(of.hut, 1)) });
    of.server.version = 2;
    change(cache, of);
    const { view } = watch(cache, of.hut, 1);
    await clock.advance(minute);
    expect(view.get().value).toBe("hut 1 v2");
  });

  test("S1: is gone after it was deleted", async () => {
    const { hut } = defined();
    const { cache } = stage({ snapshot: await snapshotOf((its) => its.read(hut, 1)) });
    cache.delete({ group: "huts" });
    expect(cache.peek(hut, 1).state).toBe("empty");
  });

  test("S1: is trusted where the change came before it, or was of another", async () => {
    const { hut, server } = defined();
    const { cache, clock, kinds } = stage();
    cache.invalidate("all");
    restoreSnapshot(cache, await snapshotOf((its) => its.read(hut, 1)));
    cache.invalidate({ key: "hut 2" });
    server.version = 2;
    const { view } = watch(cache, hut, 1);
    await clock.advance(minute);
    expect([view.get().value, kinds().includes("request:attach")]).toEqual(["hut 1 v1", false]);
  });

  test("S1: is deleted from the store by a change, though no page has used it", async () => {
    const { hut, route } = defined();
    const { stored, backend } = database();
    const first = stage();
    const store = await openStore(first.cache, { backend });
    await Promise.all([first.cache.read(route, 1), first.cache.read(hut, 2)]);
    await store.close();
    expect([...stored.keys()].sort()).toEqual(["hut 1", "hut 2", "route 1"]);
    const second = stage();
    const again = await openStore(second.cache, { backend });
    second.cache.invalidate({ key: "hut 1" });
    await again.close();
    expect([...stored.keys()]).toEqual(["hut 2"]);
    const third = stage();
    const last = await openStore(third.cache, { backend });
    third.cache.invalidate({ group: "huts" });
    await last.close();
    expect([...stored.keys()]).toEqual([]);
  });
});

test.each([
  ["put", 0],
  ["invalidated", 1],
] as const)(
  "B3: what is %s in one tab is so in another, which has not used it since it was restored",
  async (how, requests) => {
    const { world, tabs, advance } = await joined(2);
    const [one, two] = [nth(tabs, 0), nth(tabs, 1)];
    one.cache.put(one.hut, 1, { id: 1, version: 1 });
    const snapshot = takeSnapshot(one.cache);
    await advance("1s");
    restoreSnapshot(two.cache, snapshot);
    world.change(1);
    if (how === "put") one.cache.put(one.hut, 1, { id: 1, version: 2 });
    else one.cache.invalidate(one.hut);
    await advance("1s");
    const view = two.watch("hut", 1);
    await advance("1s");
    expect([view.get().value?.version, world.requests.length]).toEqual([2, requests]);
  },
);

test("B3: a dependency that is put in one tab makes another tab's composite anew, which has not used the dependency", async () => {
  const { tabs, advance } = await joined(2);
  const [one, two] = [nth(tabs, 0), nth(tabs, 1)];
  one.watch("pair", 1);
  await advance("1s");
  restoreSnapshot(two.cache, takeSnapshot(one.cache));
  const view = two.watch("pair", 1);
  await advance("1s");
  expect(view.get().value).toEqual({ version: 2 });
  one.cache.put(one.hut, 1, { id: 1, version: 2 });
  await advance("1s");
  expect(view.get().value).toEqual({ version: 3 });
});

describe("B1: of a restored value and another tab's the younger counts", () => {
  const ways = [
    ["used before, restored before it joins", true, true],
    ["used before, restored after it has joined", true, false],
    ["used later, restored before the tab joins", false, true],
    ["used later, restored after the tab has joined", false, false],
  ] as const;
  const setUp = async (isUsed: boolean, isBefore: boolean, isYounger: boolean) => {
    const { world, tabs, advance } = await joined(1);
    const one = nth(tabs, 0);
    one.watch("hut", 1);
    await advance("1s");
    const older = takeSnapshot(one.cache);
    await advance("10s");
    const { cache } = stage({ now: world.clock.now() });
    world.change(1);
    cache.put(one.hut, 1, { id: 1, version: 2 });
    if (!isYounger) void one.cache.read(one.hut, 1, { cache: "no-cache" });
    await advance("5s");
    const snapshot = isYounger ? takeSnapshot(cache) : older;
    world.requests.length = 0;
    const two = world.tab();
    if (isUsed) two.cache.peek(two.hut, 2);
    if (isBefore) restoreSnapshot(two.cache, snapshot);
    await two.join();
    if (!isBefore) restoreSnapshot(two.cache, snapshot);
    await advance("1s");
    const view = two.watch("hut", 1);
    await advance("1s");
    return { shown: view.get().value?.version, world, one };
  };

  test.each(ways)("the restored one, %s", async (_, isUsed, isBefore) => {
    const { shown, world } = await setUp(isUsed, isBefore, true);
    expect([shown, world.requests]).toEqual([2, []]);
  });

  test.each(ways)("the other tab's, %s", async (_, isUsed, isBefore) => {
    const { shown, world } = await setUp(isUsed, isBefore, false);
    expect([shown, world.requests]).toEqual([2, []]);
  });

  test("the older tab is told the younger", async () => {
    const { one } = await setUp(true, true, true);
    expect(one.cache.peek(one.hut, 1).value?.version).toBe(2);
  });
});

test("S1: another tab's invalidation deletes nothing that this other tab has stored since", async () => {
  const { world, tabs, advance } = await joined(2);
  const [one, two] = [nth(tabs, 0), nth(tabs, 1)];
  const { stored, backend } = database();
  const before = stage({ now: world.clock.now() });
  const filling = await openStore(before.cache, { backend });
  before.cache.put(one.hut, 1, { id: 1, version: 1 });
  await filling.close();
  await Promise.all([openStore(one.cache, { backend }), openStore(two.cache, { backend })]);
  one.watch("hut", 1);
  await advance("3s");
  world.change(1);
  one.cache.invalidate(one.hut);
  await advance("5s");
  expect(stored.get("hut 1")?.entry).toMatchObject({ value: { version: 2 } });
});

describe("a composite that came with a page", () => {
  const along = (of: Defined) => snapshotOf((its) => its.read(of.tour, 1));
  const alone = (of: Defined) => snapshotOf((its) => its.read(of.tour, 1), of.tour);
  const all: [string, Change][] = [...changes, ["its source", (cache, { hut }) => cache.invalidate(hut)]];
  const both = [
    ["with its dependencies", along],
    ["without them", alone],
  ] as const;

  test.each(both.flatMap(([how, made]) => all.map(([by, change]) => [how, by, made, change] as const)))(
    "H10: %s, is asked for after an invalidation of a dependency below by %s",
    async (_, __, made, change) => {
      const of = defined();
      const { cache, clock } = stage({ snapshot: await made(of) });
      const { view } = watch(cache, of.tour, 1);
      await clock.advance(minute);
      expect(view.get().value).toBe("tour to hut 1 v1");
      of.server.version = 2;
      change(cache, of);
      await clock.advance(minute);
      expect(view.get().value).toBe("tour to hut 1 v2");
    },
  );

  test.each([
    ["before its own source was used", false],
    ["before it came", true],
  ])("H10: is not trusted where a dependency was loaded anew %s", async (_, isBefore) => {
    const of = defined();
    const snapshot = await along(of);
    const { cache, clock } = stage(isBefore ? {} : { snapshot });
    of.server.version = 2;
    await clock.advance(minute);
    await cache.read(of.hut, 1, { cache: "no-cache" });
    cache.view(of.tour, 2);
    cache.view(of.route, 2);
    if (isBefore) restoreSnapshot(cache, snapshot);
    const { view } = watch(cache, of.tour, 1);
    await clock.advance(minute);
    expect(view.get().value).toBe("tour to hut 1 v2");
  });

  test.each([
    ["patched", "with", along, (cache: Cache, { hut }: Defined) => cache.at(hut, 1).patch(() => "our hut"), "our hut"],
    [
      "patched",
      "without",
      alone,
      (cache: Cache, { hut }: Defined) => cache.at(hut, 1).patch(() => "our hut"),
      "our hut",
    ],
    ["deleted", "with", along, (cache: Cache, { hut }: Defined) => cache.delete(hut), "hut 1 v2"],
    ["deleted", "without", alone, (cache: Cache, { hut }: Defined) => cache.delete(hut), "hut 1 v2"],
  ] as const)(
    "H10: is not trusted where a dependency was %s since it came %s that",
    async (_, __, made, change, shown) => {
      const of = defined();
      const { cache, clock } = stage();
      await cache.read(of.hut, 1);
      restoreSnapshot(cache, await made(of));
      of.server.version = 2;
      change(cache, of);
      const { view } = watch(cache, of.tour, 1);
      await clock.advance(minute);
      expect(view.get().value).toBe(`tour to ${shown}`);
    },
  );

  test("N1: a component that renders may be the first to use a source: another component is told after it", async () => {
    const of = defined();
    const { cache, clock } = stage({ snapshot: await snapshotOf((its) => its.read(of.route, 1)) });
    const { view } = watch(cache, of.route, 1);
    let told = 0;
    view.subscribe(() => void told++);
    cache.peek(source({ ...of.hut.definition, accepts: () => false }), 2); // the hut that came is refused, so the route is stale
    const during = told;
    await clock.advance(0);
    expect([during, told > 0]).toEqual([0, true]);
  });

  test("H2: is not asked for where its dependencies are as it was made of them", async () => {
    const of = defined();
    const snapshot = await along(of);
    const { cache, clock, kinds } = stage({ snapshot });
    await cache.read(of.hut, 1);
    watch(cache, of.route, 1);
    watch(cache, of.tour, 1);
    await clock.advance(minute);
    expect(kinds().filter((kind) => kind.startsWith("request"))).toEqual([]);
  });

  test("H10: one that a program has put over it is not made of its dependencies", async () => {
    const of = defined();
    const { cache, clock } = stage({ snapshot: await along(of) });
    cache.put(of.tour, 1, "our tour");
    const { view } = watch(cache, of.tour, 1);
    cache.invalidate({ group: "huts" });
    cache.invalidate(of.hut);
    await clock.advance(minute);
    expect(view.get().value).toBe("our tour");
  });

  test("H10: more dependencies than a snapshot tells make it stale", async () => {
    const of = defined();
    const many = composite({
      name: "many",
      maxAge: "1h",
      params: false,
      load: async (_, { read }) =>
        (await Promise.all(Array.from({ length: 200 }, (_, id) => read(of.route, id)))).length,
    });
    const { cache } = stage({ snapshot: await snapshotOf((its) => its.read(many), many) });
    expect(cache.peek(many)).toMatchObject({ state: "ready", fresh: false });
  });
});

describe("a page that is hydrated while its user leaves", () => {
  afterEach(() => vi.unstubAllGlobals());
  const setUp = async () => {
    vi.stubGlobal("document", { readyState: "complete", getElementsByClassName: () => [] });
    const at = { user: "ada" };
    const { api } = server(
      (_, { headers }) => json(headers.get("authorization"), { "cache-control": "private, max-age=60" }),
      {
        user: () => at.user,
        headers: () => ({ authorization: at.user }),
      },
    );
    const me = api.source<void, string>({ name: "me", url: "/me" });
    const other = api.source<number, string>({ name: "other", url: (n) => `/other/${n}` });
    const hello = composite({ name: "hello", params: false, load: async (_, { read }) => `hello ${await read(me)}` });
    const page = openPage(stage().cache);
    await page.show(hello);
    await page.show(me);
    const { cache, clock } = stage();
    await cache.read(other, 1);
    void receivePage(cache, JSON.parse(page.json()));
    /** As a component does that is hydrated now. */
    const hydrate = () => renderingOf(cache)?.of(cache.view(me), me, true) as Reading<string> | undefined;
    return { at, cache, clock, me, hello, other, hydrate };
  };

  test.each([
    ["was shown", true],
    ["was not shown yet", false],
  ])("F9: shows no composite of the former user, whose dependency has not been used; it %s", async (_, wasShown) => {
    const { at, cache, clock, other, hello } = await setUp();
    if (wasShown) expect(watch(cache, hello).view.get().value).toBe("hello ada");
    at.user = "bob";
    await cache.read(other, 2);
    const { view, seen } = watch(cache, hello);
    await clock.advance(0);
    expect([view.get().value, seen.join().includes("ada")]).toEqual(["hello bob", false]);
  });

  test("H1: shows a component that comes later the same", async () => {
    const { hydrate } = await setUp();
    expect(hydrate()?.value).toBe("ada");
    expect(hydrate()).toBe(hydrate());
  });

  test("S4: shows nothing of the user after a sign-out", async () => {
    const { cache, hydrate } = await setUp();
    expect(hydrate()?.value).toBe("ada");
    await cache.signOut();
    expect(hydrate()?.value).toBe(undefined);
  });

  test.each([
    ["of a component that was there", true],
    ["of one that comes first", false],
  ])("F9: shows nothing of the user before, where another has signed in: %s", async (_, wasThere) => {
    const { at, cache, clock, me, other, hydrate } = await setUp();
    if (wasThere) expect(hydrate()?.value).toBe("ada");
    at.user = "bob";
    await cache.read(other, 2);
    expect(hydrate()?.value).toBe(undefined);
    watch(cache, me);
    await clock.advance(0);
    expect([hydrate()?.value, cache.peek(me).value]).toEqual([undefined, "bob"]);
  });
});
