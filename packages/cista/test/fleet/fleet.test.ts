import { composite, createCache, entriesOf, intercept, source } from "cista";
import { expect, test, vi } from "vitest";
import { after, asked, FleetWorld, type Hut, type SimProcess, two } from "./world.js";

// Rules T1 to T12, in virtual time.

test("T1: an answer that is kept from shared caches is each user's own", async () => {
  const [world, one, other] = await two();
  for (const shared of [{ for: "user" }, { for: "none" }] as const) {
    world.said = () => ({ maxAge: "1m", shared });
    await after(world, 300, one.ask("h-07"), other.ask("h-07"));
    world.said = () => ({ maxAge: "1m", noStore: true });
    await after(world, 20_000, one.ask("h-08"));
  }
  expect(world.store.everPut).toEqual([]);
});

test("T1: answers of one user are shared among that user's caches, where the source is named so", async () => {
  const [world, one, other] = await two();
  world.said = () => ({ maxAge: "1m", shared: { for: "user" } });
  const basket = (process: SimProcess, user?: string) =>
    process.ask("tonight", { name: "basket", ...(user ? { user } : {}) });
  await after(world, 300, basket(one, "wren"), basket(one, "ash"));
  expect(await after(world, 50, basket(other, "wren"), basket(other, "ash"))).toEqual([
    { id: "tonight", version: 1, of: "wren" },
    { id: "tonight", version: 1, of: "ash" },
  ]);
  expect(asked(world).sort()).toEqual(["tonight ash", "tonight wren"]);
  // Nobody says whose it is.
  await after(world, 300, basket(one), basket(other));
  expect(asked(world)).toHaveLength(2);
  expect([...world.store.entries.keys()].sort()).toEqual([' "ash" basket "tonight"', ' "wren" basket "tonight"']);
});

test("T2: twenty users who ask at once for private values get their own, and wait once", async () => {
  const [world, one, other] = await two();
  world.said = () => ({ maxAge: "1m", shared: { for: "user" } });
  const before = world.clock.now();
  let last = 0;
  const all = Array.from({ length: 20 }, (_, n) =>
    (n % 2 ? one : other).ask("h-07", { user: `walker ${n}` }).then((hut) => {
      last = world.clock.now();
      return hut;
    }),
  );
  await after(world, 2000, ...all);
  expect(asked(world)).toHaveLength(20);
  expect(last - before).toBeLessThan(300);
});

test("T2: no request waits for a key that was private a moment ago, as long as it is asked for", async () => {
  const [world, one, other] = await two();
  world.said = () => ({ maxAge: "1m", shared: { for: "user" } });
  for (let round = 0; round < 6; round++) {
    const began = world.clock.now();
    const done = [one, one, other, other].map((process) => process.ask("h-07").then(() => world.clock.now() - began));
    const lengths = await after(world, 5000, ...done);
    if (round > 0) expect(Math.max(...lengths)).toBeLessThan(150);
  }
});

test("T3: for the fleet s-maxage counts; on to a cache goes max-age, with the age", async () => {
  const [world, one, other] = await two();
  world.said = () => ({ maxAge: "10m", age: 5000, shared: { for: "all", maxAge: "30s", mustRevalidate: true } });
  await after(world, 300, one.ask("h-07"));
  await world.clock.advance(10_000);
  const cache = other.cache();
  await after(world, 300, cache.read(world.sources.hut, "h-07"));
  const [entry] = entriesOf(cache);
  expect((entry?.staleAt ?? 0) - world.clock.now()).toBeGreaterThan(570_000);
  expect((entry?.staleAt ?? 0) - world.clock.now()).toBeLessThan(585_000);
  expect(asked(world)).toHaveLength(1);
  await world.clock.advance(15_000);
  await after(world, 300, other.ask("h-07")); // 30 s old, and must not be shown
  expect(asked(world)).toHaveLength(1);
});

test("T4: a holder that dies is followed when its lease ends; each request is answered", async () => {
  const [world, one, other] = await two();
  const lost = one.ask("h-07");
  lost.catch(() => {});
  await world.clock.advance(20);
  const waiting = other.ask("h-07");
  await world.clock.advance(20);
  one.kill();
  expect(await after(world, 5000, waiting)).toEqual([{ id: "h-07", version: 1 }]);
  expect(asked(world)).toHaveLength(2);
});

test("T4: as long as its holder lives a lease is renewed, however long the origin takes", async () => {
  const [world, one, other] = await two();
  world.latency = 20_000;
  await after(world, 25_000, one.ask("h-07"), other.ask("h-07"));
  expect(asked(world)).toHaveLength(1);
});

test("T4: a stopped holder's late answer is not put over the answer of a later request", async () => {
  const [world, one, other] = await two();
  const late = one.ask("h-07");
  await world.clock.advance(20);
  one.stop();
  world.change("h-07");
  await after(world, 5000, other.ask("h-07"));
  one.resume();
  expect(await after(world, 300, late)).toEqual([{ id: "h-07", version: 1 }]); // it had asked before
  expect(await after(world, 1000, one.ask("h-07"), other.ask("h-07"))).toEqual([
    { id: "h-07", version: 2 },
    { id: "h-07", version: 2 },
  ]);
  expect(one.figures.refused).toBe(1);
});

test("T4: an answer that was invalidated while it was under way is given, and not put", async () => {
  const [world, one, other] = await two();
  const before = one.ask("h-07");
  await world.clock.advance(20);
  world.change("h-07");
  expect(await after(world, 60, other.invalidate("of h-07"))).toEqual([true]);
  const later = one.ask("h-07"); // of the same process, and after
  expect(await after(world, 600, before, later)).toEqual([
    { id: "h-07", version: 1 },
    { id: "h-07", version: 2 },
  ]);
});

test("T4: a cache that leaves ends no request of another; the last one ends it", async () => {
  const [world, one] = await two();
  const [first, second] = [new AbortController(), new AbortController()];
  const read = (signal: AbortSignal) => one.cache().read(world.sources.hut, "h-07", { signal });
  const [left, stays] = [read(first.signal), read(second.signal)];
  left.catch(() => {});
  await world.clock.advance(20);
  first.abort();
  expect(await after(world, 300, stays)).toEqual([{ id: "h-07", version: 1 }]);
  expect(asked(world)).toHaveLength(1);
  const [third, fourth] = [new AbortController(), new AbortController()];
  for (const each of [third, fourth])
    one
      .cache()
      .read(world.sources.hut, "h-08", { signal: each.signal })
      .catch(() => {});
  await world.clock.advance(20);
  third.abort();
  fourth.abort();
  await world.clock.advance(20);
  expect(await after(world, 300, one.ask("h-08"))).toHaveLength(1); // no lease is left behind
});

test("T5: versions go up over a loss of everything", async () => {
  const [world, one, other] = await two();
  await after(world, 300, one.ask("h-07"));
  world.store.flush();
  await after(world, 2000, one.ask("h-07"));
  world.change("h-07");
  await after(world, 300, other.invalidate("huts"));
  expect(await after(world, 300, one.ask("h-07"))).toEqual([{ id: "h-07", version: 2 }]); // versions went up over the loss
});

test("T6: a stale value is given at once where nothing is held, and one process revalidates it in the background", async () => {
  const [world, one, other] = await two();
  await after(world, 300, one.ask("h-07"));
  world.change("h-07");
  await world.clock.advance(70_000);
  asked(world);
  const stale = await after(world, 20, ...[one, other, one, other].map((process) => process.ask("h-07")));
  expect(new Set(stale.map(({ version }) => version))).toEqual(new Set([1]));
  await world.clock.advance(200);
  expect(await after(world, 300, one.ask("h-07"), other.ask("h-07"))).toEqual([
    { id: "h-07", version: 2 },
    { id: "h-07", version: 2 },
  ]);
  expect(asked(world)).toHaveLength(1);
});

test("T6: a cache that holds a value waits for the newer one", async () => {
  const [world, one] = await two();
  const cache = one.cache();
  await after(world, 300, cache.read(world.sources.hut, "h-07"));
  world.change("h-07");
  await world.clock.advance(70_000);
  const leave = cache.view(world.sources.hut, "h-07").subscribe(() => {});
  await world.clock.advance(300);
  expect(cache.peek(world.sources.hut, "h-07").value).toMatchObject({ version: 2 });
  leave();
});

test("T8: a lost message is read later; meanwhile no memory is trusted for long", async () => {
  const [world, one, other] = await two();
  await after(world, 300, one.ask("h-07"), other.ask("h-07"));
  world.lost = 1;
  world.change("h-07");
  const began = world.clock.now();
  const done = other.member
    .invalidateNamed({ groups: ["huts"], keys: [], sources: [], partition: undefined })
    .then(() => world.clock.now());
  const [end] = await after(world, 2500, done);
  expect((end ?? 0) - began).toBeLessThan(700);
  expect(await after(world, 1500, one.ask("h-07"))).toEqual([{ id: "h-07", version: 2 }]);
});

test("T8: a process that was stopped trusts nothing in its memory before it has heard the others", async () => {
  const [world, one, other] = await two();
  await after(world, 300, one.ask("h-07"));
  await after(world, 100, one.ask("h-07"));
  one.stop();
  world.change("h-07");
  expect(await after(world, 3000, other.invalidate("huts"))).toEqual([true]);
  one.resume();
  expect(await after(world, 600, one.ask("h-07"))).toEqual([{ id: "h-07", version: 2 }]);
});

test("T8: where messages are no longer there to be read, no cache trusts its memory", async () => {
  const [world, one, other] = await two();
  const cache = one.cache();
  const view = cache.view(world.sources.hut, "h-07");
  view.subscribe(() => {});
  await world.clock.advance(300);
  one.isCut = true;
  world.change("h-07");
  await after(world, 2500, other.invalidate("huts"));
  world.store.flush();
  await after(world, 2500, other.invalidate("other"));
  one.isCut = false;
  await world.clock.advance(3000);
  expect(view.get()).toMatchObject({ state: "ready", value: { version: 2 } });
  expect(one.figures.gaps).toBeGreaterThan(0);
});

test("T9: without the store each process goes on alone, by lifetimes; once it is back they share again", async () => {
  const [world, one, other] = await two();
  world.isDown = true;
  const first = await after(world, 3000, one.ask("h-07"), one.ask("h-07"), other.ask("h-07"));
  expect(first).toHaveLength(3);
  await after(world, 3000, one.ask("h-07"), other.ask("h-07"));
  asked(world);
  await after(world, 300, one.ask("h-07"), other.ask("h-07"), one.ask("h-07"));
  expect(asked(world)).toEqual([]); // each remembers
  world.change("h-07");
  expect(await after(world, 1000, one.invalidate("huts"))).toEqual([false]);
  expect(await after(world, 300, one.ask("h-07"), other.ask("h-07"))).toEqual([
    { id: "h-07", version: 2 },
    { id: "h-07", version: 1 }, // nobody could tell it
  ]);
  world.isDown = false;
  await world.clock.advance(2000);
  asked(world);
  expect(await after(world, 300, other.ask("h-07"), one.ask("h-07"))).toEqual([
    { id: "h-07", version: 2 },
    { id: "h-07", version: 2 },
  ]);
  expect(asked(world)).toHaveLength(1);
});

test("T9: an invalidation without the store is told when the store is back", async () => {
  const [world, one, other] = await two();
  await after(world, 300, other.ask("h-07"));
  one.isCut = true;
  await after(world, 2000, one.ask("h-09"), one.ask("h-10"));
  world.change("h-07");
  expect(
    await after(
      world,
      2000,
      one.member.invalidateNamed({ groups: [], keys: ['hut "h-07"'], sources: [], partition: undefined }),
    ),
  ).toEqual([false]);
  one.isCut = false;
  await world.clock.advance(2000);
  expect(await after(world, 300, other.ask("h-07"))).toEqual([{ id: "h-07", version: 2 }]);
});

test("T10: a composite is not put, its dependencies are; no process waits for it", async () => {
  const world = new FleetWorld();
  const { hut } = world.sources;
  const route = composite({
    name: "route",
    load: async (id: string, { read }) => ({ id, huts: [await read(hut, "h-07"), await read(hut, "h-08")] as Hut[] }),
  });
  const [one, other] = [world.start({ sources: [hut, route] }), world.start({ sources: [hut, route] })];
  await world.clock.advance(50);
  await after(world, 1000, one.cache().read(route, "r-1"));
  await after(world, 50, other.cache().read(route, "r-1"));
  expect([...world.store.entries.keys()].sort()).toEqual(['hut "h-07"', 'hut "h-08"']);
  expect(asked(world)).toHaveLength(2);
});

test("T10: nor is it remembered where there is no store", async () => {
  const world = new FleetWorld();
  const { hut } = world.sources;
  let loads = 0;
  const route = composite({
    name: "route",
    load: async (id: string, { read }) => ({ id, load: ++loads, hut: (await read(hut, "h-07")) as Hut }),
  });
  const one = world.start({ sources: [hut, route] });
  world.isDown = true;
  await after(world, 3000, one.ask("h-07"));
  await after(world, 1000, one.cache().read(route, "r-1"));
  await after(world, 1000, one.cache().read(route, "r-1"));
  expect([loads, asked(world).length]).toEqual([2, 2]); // the hut once while it was not known that there is no store
});

test("T11: a value that the source's check refuses is not put; each process makes its own of a value that it takes", async () => {
  const check = {
    "~standard": {
      version: 1 as const,
      vendor: "test",
      validate: (value: any) =>
        value.version > 1 ? { issues: [{ message: "too new" }] } : { value: { ...value, seen: new Date(0) } },
    },
  };
  const [world, one, other] = await two(new FleetWorld(1, { check }));
  expect(await after(world, 300, one.ask("h-07"))).toEqual([{ id: "h-07", version: 1, seen: new Date(0) }]);
  expect(await after(world, 300, other.ask("h-07"))).toEqual([{ id: "h-07", version: 1, seen: new Date(0) }]);
  world.change("h-08");
  await expect(after(world, 300, one.ask("h-08"))).rejects.toMatchObject({ kind: "shape" });
  expect([...world.store.entries.keys()]).toEqual(['hut "h-07"']);
});

test("T11: a value of another version of the program that the own check refuses is asked for anew", async () => {
  const [world, one] = await two();
  const wants = (value: any) => (value.region ? { value } : { issues: [{ message: "has no region" }] });
  const newer = source({
    name: "hut",
    maxAge: "1m",
    check: { "~standard": { version: 1 as const, vendor: "test", validate: wants } },
    load: async (id: string) => ({ id, region: "Ashdale" }),
  });
  const other = world.start({ sources: [newer] });
  await world.clock.advance(2000);
  await after(world, 300, one.ask("h-07"));
  for (let times = 0; times < 2; times++) {
    const read = other.cache().read(newer, "h-07");
    expect(await after(world, 300, read)).toEqual([{ id: "h-07", region: "Ashdale" }]);
  }
  expect(other.figures.unreadable).toBe(1);
});

test("T11: an interceptor is given the checked value, once; a value of its own is checked after it", async () => {
  let checks = 0;
  const check = {
    "~standard": {
      version: 1 as const,
      vendor: "test",
      validate: (value: any) => ({ value: { seen: ++checks, value } }),
    },
  };
  const hut = source({ name: "hut", check, load: async (id: string) => id });
  const cache = createCache();
  let seen: unknown;
  let own: unknown;
  intercept(cache, {
    async load(_, proceed) {
      if (own) return own;
      seen = await proceed();
      return seen;
    },
  });
  expect(await cache.read(hut, "h-07")).toEqual({ seen: 1, value: "h-07" });
  expect(seen).toMatchObject({ kind: "value", value: { seen: 1 } });
  own = "of its own";
  expect(await cache.read(hut, "h-08")).toEqual({ seen: 2, value: "of its own" });
  cache.dispose();
});

test("T11: a value that JSON changes, or that is too large, is not put", async () => {
  const [world, one] = await two();
  const odd = [{ when: new Date(0) }, { n: Number.NaN }, { map: new Map() }, { none: undefined }, "x".repeat(20_000)];
  for (const [n, value] of odd.entries()) {
    await after(world, 300, one.cache(undefined, { parse: () => value }).read(world.sources.hut, `h-${n}`));
  }
  expect(world.store.everPut).toEqual([]);
});

test("T12: a value that several caches are given cannot be changed by any of these, in production either", async () => {
  vi.stubEnv("NODE_ENV", "production");
  const [world, one] = await two();
  const [own, joined] = await after(world, 300, one.ask("h-07"), one.ask("h-07"));
  Object.assign(own as object, { version: 99 }); // whoever has led has one of their own
  const [remembered, again] = await after(world, 300, one.ask("h-07"), one.ask("h-07"));
  for (const hut of [joined, remembered, again]) {
    expect(hut).toEqual({ id: "h-07", version: 1 });
    expect(() => Object.assign(hut as object, { version: 99 })).toThrow(TypeError);
  }
  vi.unstubAllEnvs();
});

test("R10: a value in a process' memory is on the page at once; an unchecked one is not", async () => {
  const [world, one] = await two();
  await after(world, 300, one.ask("h-07"));
  const cache = one.cache();
  const view = cache.view(world.sources.hut, "h-07");
  const end = view.subscribe(() => {});
  expect(view.get()).toMatchObject({ state: "ready", value: { id: "h-07" }, request: "none" });
  end();
  const isHut = { "~standard": { version: 1 as const, vendor: "greyfell", validate: (value: unknown) => ({ value }) } };
  const checked = source({ ...world.sources.hut.definition, name: "hut", check: isHut });
  const other = one.cache();
  const unchecked = other.view(checked as never, "h-07");
  unchecked.subscribe(() => {});
  expect(unchecked.get().state).toBe("loading");
  expect(await after(world, 300, other.read(checked as never, "h-07"))).toMatchObject([{ id: "h-07" }]);
  expect(asked(world)).toHaveLength(1);
});
