import { type createCache, unchanged, write } from "cista";
import { invalidateAfter } from "cista/http";
import { expect, test } from "vitest";
import { after, asked, type Hut, two } from "./world.js";

// What a request's cache gets of a fleet, and what the fleet hears of it, in virtual time.

test("a conditional request: a cache that holds nothing is offered the store's validator, for its own request alone", async () => {
  const [world, one, other] = await two();
  world.said = () => ({ maxAge: "10s", staleWhileRevalidate: 0, validator: { etag: '"1"' } });
  const seen: unknown[] = [];
  const parse = (value: Hut, held: unknown) => {
    seen.push(held);
    return value;
  };
  await after(world, 300, one.cache(undefined, { parse }).read(world.sources.hut, "h-07"));
  await world.clock.advance(20_000);
  await after(world, 300, other.cache(undefined, { parse }).read(world.sources.hut, "h-07"));
  expect(seen).toEqual([
    undefined,
    { value: { id: "h-07", version: 1 }, validator: { etag: '"1"' }, asOf: expect.any(Number) },
  ]);
});

test("an entry that is invalidated, deleted or put in one cache is invalidated in all", async () => {
  const [world, one, other] = await two();
  const { hut } = world.sources;
  const book = write({ name: "book", send: async () => ({}), invalidates: () => [{ group: "of h-07" }] });
  const named = { "cache-group-invalidation": '"of h-07"' };
  const acts: ((cache: ReturnType<typeof createCache>) => unknown)[] = [
    (cache) => cache.invalidate({ group: "of h-07" }),
    (cache) => invalidateAfter(cache, "POST", new Response(null, { headers: named }), "https://huts.example/bookings"),
    (cache) => cache.invalidate({ source: hut, params: "h-07" }),
    (cache) => cache.invalidate({ key: 'hut "h-07"' }),
    (cache) => cache.invalidate(hut),
    (cache) => cache.invalidate("all"),
    (cache) => cache.delete({ key: 'hut "h-07"' }),
    (cache) => cache.put(hut, "h-07", { id: "h-07", version: 0 }),
    (cache) => cache.run(book),
  ];
  const watching = other.cache();
  const view = watching.view(hut, "h-07");
  view.subscribe(() => {});
  await after(world, 300, one.ask("h-07"));
  for (const act of acts) {
    const version = world.change("h-07");
    act(one.cache());
    await world.clock.advance(400);
    expect(view.get(), String(act)).toMatchObject({ value: { version } });
    expect(await after(world, 50, one.ask("h-07"), other.ask("h-07"))).toEqual(Array(2).fill({ id: "h-07", version }));
  }
});

test("a request by hand goes to the origin, and its answer is there for all", async () => {
  const [world, one, other] = await two();
  await after(world, 300, one.ask("h-07"), other.ask("h-07"));
  world.change("h-07");
  expect(await after(world, 300, one.ask("h-07", { cache: "reload" }))).toEqual([{ id: "h-07", version: 2 }]);
  expect(await after(world, 300, one.ask("h-07"))).toEqual([{ id: "h-07", version: 2 }]);
  expect(asked(world)).toHaveLength(2);
});

test("closed, or its cache disposed of, nothing is left", async () => {
  const [world, one, other] = await two();
  await after(world, 300, one.ask("h-07"), other.ask("h-07"));
  const cache = one.cache();
  one.member.close();
  other.member.close();
  await world.clock.advance(60_000);
  expect(world.clock.pendingTimers).toBe(0);
  expect(await after(world, 300, cache.read(world.sources.hut, "h-08"))).toEqual([{ id: "h-08", version: 1 }]); // unshared
});

test("a stale value is given to a cache that holds nothing, and not to one that waits for a newer value", async () => {
  const [world, one] = await two();
  const { hut } = world.sources;
  const holding = one.cache();
  await after(world, 300, holding.read(hut, "h-07"));
  await world.clock.advance(70_000);
  world.change("h-07");
  const first = one.ask("h-07");
  const leave = holding.view(hut, "h-07").subscribe(() => {});
  expect(await after(world, 600, first)).toEqual([{ id: "h-07", version: 1 }]);
  expect(holding.peek(hut, "h-07").value).toMatchObject({ version: 2 });
  leave();
});

test("T1: a value that is unchanged, but is no longer to be stored, is each user's own from then on", async () => {
  const [world, one, other] = await two();
  world.said = () => ({ maxAge: "10s", staleWhileRevalidate: 0, validator: { etag: '"1"' } });
  await after(world, 300, one.ask("h-07"));
  await world.clock.advance(20_000);
  const parse = (_: Hut, held: unknown) => held && unchanged({ noStore: true });
  const cache = other.cache(undefined, { parse });
  expect(await after(world, 300, cache.read(world.sources.hut, "h-07"))).toEqual([{ id: "h-07", version: 1 }]);
  expect(world.store.everPut).toHaveLength(1);
});

test("a new record replaces the former one whole: no member of that one goes on", async () => {
  const [world, one, other] = await two();
  world.said = () => ({ maxAge: "10s", staleWhileRevalidate: 0, validator: { etag: '"1"' } });
  await after(world, 300, one.ask("h-07"));
  await world.clock.advance(20_000);
  world.change("h-07");
  world.said = () => ({});
  expect(await after(world, 300, other.ask("h-07"))).toEqual([{ id: "h-07", version: 2 }]);
  const stored = world.store.entries.get('hut "h-07"');
  expect(stored?.put).toMatchObject({ lifetime: 30_000, meta: expect.not.stringContaining("etag") });
});

test("caches that hold a value and ask at once wait for one request, also for a value without a lifetime", async () => {
  const [world, one] = await two();
  world.said = () => ({ maxAge: 0, staleWhileRevalidate: 0 });
  const { hut } = world.sources;
  const caches = [one.cache(), one.cache(), one.cache()];
  await after(world, 300, ...caches.map((cache) => cache.read(hut, "h-07")));
  asked(world);
  await after(world, 600, ...caches.map((cache) => cache.read(hut, "h-07")));
  expect(asked(world)).toHaveLength(1);
});

test("a call that waits for all to have heard ends when the fleet is left", async () => {
  const [world, one, other] = await two();
  other.stop();
  const waiting = one.invalidate("huts");
  await world.clock.advance(50);
  one.member.close();
  expect(await after(world, 50, waiting)).toEqual([true]);
});
