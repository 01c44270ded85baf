import { CistaError, composite, entriesOf, Failure, restoreSnapshot, type Source, source, takeSnapshot } from "cista";
import { expect, test, vi } from "vitest";
import { heldSource, inShort, stage, watch } from "./stage.js";

/** A leaf whose value the test decides, and how often it was loaded. */
function leafSource(name: string, definition: object = {}) {
  const values = new Map<unknown, unknown>();
  const load = vi.fn(async (id: any) => {
    const value = values.get(id) ?? 0;
    if (value instanceof Error) throw value;
    return value as any;
  });
  return { source: source<any, Promise<any>>({ name, retry: false, ...definition, load }), values, load };
}

/** A source that adds up the parts of its params. */
function sumSource(name: string, part: Source<any, any>, definition: object = {}) {
  const load = vi.fn(async (ids: any, { read }: any) => {
    let sum = 0;
    for (const id of ids) sum += await read(part, id);
    return sum;
  });
  return {
    source: composite<any, Promise<number>>({
      name,
      retry: false,
      ...definition,
      load: (ids, context) => load(ids, context),
    }),
    load,
  };
}

test("D1: a dependency shared by many is asked for once; a change below reaches every dependent once", async () => {
  const { cache, clock } = stage();
  const hut = leafSource("hut", { maxAge: "1h" });
  const route = sumSource("route", hut.source, { maxAge: "1h" });
  const all = sumSource("all", route.source, { maxAge: "1h" });
  const routes = Array.from({ length: 100 }, (_, n) => watch(cache, route.source, [1, 100 + n]));
  const top = watch(
    cache,
    all.source,
    Array.from({ length: 100 }, (_, n) => [1, 100 + n]),
  );
  await clock.advance(0);
  expect(hut.load.mock.calls.filter(([id]) => id === 1)).toHaveLength(1);
  expect(route.load).toHaveBeenCalledTimes(100);
  expect(inShort(top.view.get())).toBe("ready 0");
  const [info] = [...entriesOf(cache)].filter(({ key }) => key === "route [1,100]");
  expect(info?.dependsOn).toEqual(["hut 1", "hut 100"]);
  cache.put(hut.source, 1, 5);
  expect(inShort(routes[0]?.view.get())).toBe("ready 0 stale");
  expect(inShort(top.view.get())).toBe("ready 0 stale"); // at once, however far up
  cache.put(hut.source, 1, 7); // in the same turn: once for both
  await clock.advance(0);
  expect(routes.every(({ view }) => view.get().value === 7)).toBe(true);
  expect(inShort(top.view.get())).toBe("ready 700");
  expect(route.load).toHaveBeenCalledTimes(200);
  expect(all.load).toHaveBeenCalledTimes(2);
});

test("D1: invalidated through a dependency that comes back the same, it is fresh without a load", async () => {
  const { cache, clock, events } = stage();
  const hut = leafSource("hut", { maxAge: "1h" });
  const route = sumSource("route", hut.source, { maxAge: "1h" });
  const { view, seen } = watch(cache, route.source, [1, 2]);
  await clock.advance(0);
  const { value } = view.get();
  cache.invalidate({ source: hut.source, params: 1 });
  expect(inShort(view.get())).toBe("ready 0 stale");
  await clock.advance(0);
  expect(inShort(view.get())).toBe("ready 0");
  expect(view.get().value).toBe(value);
  expect(hut.load).toHaveBeenCalledTimes(3);
  expect(route.load).toHaveBeenCalledOnce();
  expect(events.filter(({ cause }) => cause === "dependency").map(({ kind, key }) => `${kind} ${key}`)).toContain(
    "request route [1,2]",
  );
  hut.values.set(1, 9);
  cache.invalidate({ source: hut.source, params: 1 });
  await clock.advance(0);
  expect(inShort(view.get())).toBe("ready 9");
  expect(route.load).toHaveBeenCalledTimes(2);
  expect(seen.filter((shown) => shown === "ready 9")).toHaveLength(1);
});

test("D1: an unwatched composite stays stale until a read brings it up to date", async () => {
  const { cache, clock } = stage();
  const hut = leafSource("hut", { maxAge: "1h" });
  const route = sumSource("route", hut.source, { maxAge: "1h" });
  expect(await cache.read(route.source, [1])).toBe(0);
  cache.invalidate(hut.source);
  hut.values.set(1, 4);
  await clock.advance(0);
  expect(hut.load).toHaveBeenCalledOnce();
  expect(await cache.read(route.source, [1])).toBe(4);
  const all = sumSource("all", route.source, { maxAge: "1h", staleWhileRevalidate: 0 });
  expect(await cache.read(all.source, [[1]])).toBe(4);
  cache.put(hut.source, 1, 6); // two floors below what is read next
  expect(await cache.read(all.source, [[1]])).toBe(6);
});

test("D2: a composite is made of no stale dependency, and fresh no longer than the narrowest", async () => {
  const { cache, clock } = stage();
  const bunks = leafSource("bunks", { maxAge: "5s", staleWhileRevalidate: 0 });
  const basket = leafSource("basket", { noStore: true });
  const route = sumSource("route", bunks.source, { maxAge: "1h" });
  const page = sumSource("page", basket.source, { maxAge: "1h" });
  await cache.read(bunks.source, 1);
  await clock.advance("4s");
  expect(await cache.read(route.source, [1])).toBe(0);
  const [info] = [...entriesOf(cache)].filter(({ source }) => source === "route");
  expect((info?.staleAt ?? 0) - clock.now()).toBe(1000);
  expect(info?.expiredAt).toBe(info?.staleAt);
  await clock.advance("1s");
  bunks.values.set(1, 3);
  expect(await cache.read(route.source, [1])).toBe(3);
  expect(bunks.load).toHaveBeenCalledTimes(2);
  expect(await cache.read(page.source, [1])).toBe(0);
  await clock.advance(0);
  expect(
    [...entriesOf(cache)].filter(
      ({ source, reading }) => source !== "route" && source !== "bunks" && reading.state !== "empty",
    ),
  ).toEqual([]);
});

test("D3: a request by hand goes down to each dependency in the same mode, once", async () => {
  const { cache, clock } = stage();
  const modes: string[] = [];
  const hut = source({
    name: "hut",
    maxAge: "1h",
    load: async (id: number, { mode, cause }) => {
      modes.push(`${id} ${mode} ${cause}`);
      return id;
    },
  });
  const route = sumSource("route", hut);
  const all = sumSource("all", route.source);
  const { view } = watch(cache, all.source, [
    [1, 2],
    [2, 3],
  ]);
  await clock.advance(0);
  modes.length = 0;
  await Promise.all([view.revalidate(), clock.advance(0)]);
  expect(modes).toEqual(["1 no-cache manual", "2 no-cache manual", "3 no-cache manual"]);
});

test("D4: a ring is a CistaError that spells the keys on it", async () => {
  const { cache, clock } = stage();
  const ring: Source<number, number> = composite({
    name: "ring",
    retry: false,
    load: async (n: number, { read }): Promise<number> => read(ring, (n + 1) % 3),
  });
  const read = cache.read(ring, 0).catch((failure: Failure) => failure);
  await clock.advance(0);
  const failure = (await read) as Failure;
  expect(failure.cause).toBeInstanceOf(CistaError);
  expect(failure.message).toContain("ring 2 → ring 0 → ring 1 → ring 2");
});

test("D5: a dependency's failure is not tried again by its reader, whose time-out stands still", async () => {
  const { cache, clock } = stage();
  const part = heldSource("part", { retry: { times: 1, firstPause: 0 }, timeout: "1m" });
  const tries = vi.fn();
  const whole = composite({
    name: "whole",
    timeout: "2s",
    load: async (_: number, { read }) => {
      tries();
      return read(part.source, 1);
    },
  });
  const { seen } = watch(cache, whole, 1);
  await clock.advance("50s");
  part.loads[0]?.fail(new TypeError("fetch failed"));
  await clock.advance("10ms");
  part.loads[1]?.fail(new TypeError("fetch failed"));
  await clock.advance("1h");
  expect(seen).toEqual(["failed (network)"]);
  expect(tries).toHaveBeenCalledOnce();
  expect(cache.peek(whole, 1).failure?.key).toBe("whole 1");
});

test("D5: the time-out stands still while a composite that is stale through its dependencies waits for these", async () => {
  const { cache, clock } = stage({ maxAge: "1h" });
  const part = heldSource("part", { timeout: "1m" });
  const whole = composite({ name: "whole", timeout: "2s", load: async (_: number, { read }) => read(part.source, 1) });
  const { seen } = watch(cache, whole, 1);
  part.loads[0]?.answer("x");
  await clock.advance(0);
  cache.invalidate(part.source);
  await clock.advance("50s");
  part.loads[1]?.answer("x");
  await clock.advance(0);
  expect(seen.at(-1)).toBe('ready "x"');
  expect(seen.join()).not.toContain("timeout");
});

test("D1: an entry that a load reads after its end is no dependency, and is not kept for it", async () => {
  const { cache, clock } = stage({ retain: "1m" });
  const part = heldSource("part", { maxAge: "1h" });
  const gates: (() => void)[] = [];
  const whole = composite({
    name: "whole",
    retry: { times: 1, firstPause: 0 },
    maxAge: "1h",
    load: async (_: number, { read, attempt }) => {
      const late = new Promise<void>((open) => gates.push(open)).then(() => read(part.source, `late ${attempt}`));
      late.catch(() => {});
      if (attempt === 1) throw new Error("the first try fails, and goes on reading");
      return read(part.source, "in time");
    },
  });
  const { leave } = watch(cache, whole, 1);
  await clock.advance(0);
  for (const open of gates) open();
  await clock.advance(0);
  for (const load of part.loads) load.answer("x");
  await clock.advance(0);
  const [info] = [...entriesOf(cache)].filter(({ key }) => key === "whole 1");
  expect(info?.dependsOn).toContain('part "in time"');
  expect(info?.dependsOn).not.toContain('part "late 1"');
  leave();
  await clock.advance(0);
  const again = watch(cache, whole, 2);
  again.leave();
  await clock.advance(0);
  gates.at(-1)?.(); // its signal is aborted: it gets nothing, and nobody waits
  await clock.advance("5m");
  expect([...entriesOf(cache)]).toEqual([]);
  expect(clock.pendingTimers).toBe(0);
});

test("F8: a dependency is let go no earlier than its composite", async () => {
  const { cache, clock } = stage({ retain: "1m" });
  const part = heldSource("part");
  const whole = composite({
    name: "whole",
    retain: "10m",
    maxAge: "1h",
    load: async (_: number, { read }) => read(part.source, 1),
  });
  const first = watch(cache, whole, 1);
  first.leave();
  await clock.advance(0);
  await clock.advance(0);
  expect(part.loads[0]?.signal.aborted).toBe(true);
  const { leave } = watch(cache, whole, 1);
  part.loads[1]?.answer("x");
  await clock.advance("5m");
  leave();
  await clock.advance("9m");
  expect([...entriesOf(cache)].map(({ key }) => key).sort()).toEqual(["part 1", "whole 1"]);
  await clock.advance("2m");
  expect([...entriesOf(cache)]).toEqual([]);
  expect(clock.pendingTimers).toBe(0);
});

test("D1: two composites that share a dependency without a lifetime do not load each other for ever", async () => {
  const { cache, clock } = stage();
  let loads = 0;
  const time = source({ name: "time", maxAge: 0, load: async () => ++loads });
  const wholes = ["north", "south"].map((name) =>
    composite({ name, maxAge: "1h", params: false, load: async (_, { read }) => `${name} at ${await read(time)}` }),
  );
  const views = [];
  for (const whole of wholes) {
    views.push(watch(cache, whole).view);
    await clock.advance("1s");
  }
  expect([loads, ...views.map((view) => view.get().value)]).toEqual([2, "north at 2", "south at 2"]);
});

test("D2: where a dependency must be revalidated once stale, the composite must be too", async () => {
  const { cache, clock } = stage();
  const state = source({ name: "state", maxAge: "1h", mustRevalidate: true, load: async () => 1 });
  const whole = composite({ name: "whole", maxAge: "10s", params: false, load: async (_, { read }) => read(state) });
  await cache.read(whole);
  await clock.advance("20s");
  expect(inShort(cache.view(whole).get())).toBe("loading running"); // no stale value, though the whole would allow it
});

test("D1: a dependency that is invalidated while it is loaded for a watched composite is asked for anew, and the composite follows", async () => {
  const { cache, clock } = stage();
  const { source: part, loads } = heldSource("part", { maxAge: "1h" });
  const whole = composite({
    name: "whole",
    maxAge: "1h",
    params: false,
    load: async (_, { read }) => `of ${await read(part)}`,
  });
  const above = composite({
    name: "above",
    maxAge: "1h",
    params: false,
    load: async (_, { read }) => `above ${await read(whole)}`,
  });
  const { view } = watch(cache, above);
  await clock.advance(0);
  cache.invalidate(part);
  loads[0]?.answer("old");
  await clock.advance(0);
  loads[1]?.answer("new");
  await clock.advance(0);
  expect([inShort(view.get()), loads.length]).toEqual(['ready "above of new"', 2]);
});

test("R3: where a load fails by one dependency, the requests for the others end", async () => {
  const { cache, clock } = stage();
  const [broken, slow] = [heldSource("broken"), heldSource("slow")];
  const whole = composite({
    name: "whole",
    retry: false,
    params: false,
    load: async (_, { read }) => Promise.all([read(broken.source, 1), read(slow.source, 1)]),
  });
  const { view } = watch(cache, whole);
  await clock.advance(0);
  expect(slow.loads[0]?.signal.aborted).toBe(false);
  broken.loads[0]?.fail(new Failure("http", "no", { status: 500 }));
  await clock.advance(1);
  expect([view.get().state, slow.loads[0]?.signal.aborted]).toEqual(["failed", true]);
});

test("R3: a request for a dependency that goes on for its composite ends with the composite", async () => {
  const { cache, clock } = stage();
  const [first, second] = [heldSource("first"), heldSource("second")];
  const whole = composite({
    name: "whole",
    retry: false,
    params: false,
    load: async (_, { read }) => [await read(first.source, 1), await read(second.source, 1)],
  });
  const watchers = [watch(cache, second.source, 1), watch(cache, whole)];
  await clock.advance(0);
  for (const { loads } of [first, second]) {
    loads[0]?.answer(1);
    await clock.advance(0);
  }
  cache.invalidate(first.source);
  cache.invalidate(second.source);
  await clock.advance(0);
  for (const { leave } of watchers) leave();
  await clock.advance(1);
  expect([first, second].map(({ loads }) => loads.map(({ signal }) => signal.aborted))).toEqual([
    [false, true],
    [false, true],
  ]);
});

test("N1: a chain of 3,000 composites is loaded in one go, and is no change without end", async () => {
  const { cache, clock } = stage();
  const reported = vi.spyOn(console, "error").mockImplementation(() => {});
  const step: Source<number, number> = composite({
    name: "step",
    timeout: Number.POSITIVE_INFINITY,
    load: async (n: number, { read }): Promise<number> => (n === 0 ? 0 : 1 + (await read(step, n - 1))),
  });
  const began = clock.now();
  const read = cache.read(step, 3000);
  await clock.advance(0);
  expect(await read).toBe(3000);
  expect(clock.now()).toBe(began);
  expect(reported).not.toHaveBeenCalled();
  reported.mockRestore();
});

test("D1: a composite that is restored while it is loaded depends on the entries that the load has read", async () => {
  const hut = leafSource("hut", { maxAge: "1h" });
  const route = sumSource("route", hut.source, { maxAge: "1h" });
  const earlier = stage();
  void earlier.cache.read(route.source, [1, 2]);
  await earlier.clock.advance(0);
  const snapshot = takeSnapshot(earlier.cache);
  const { cache, clock } = stage();
  const slow = heldSource("slow", { maxAge: "1h" });
  const both = composite({
    name: "route",
    retry: false,
    maxAge: "1h",
    load: async (ids: number[], { read }) => (await read(hut.source, ids[0])) + (await read(slow.source, 1)),
  });
  const { view } = watch(cache, both, [1, 2]);
  await clock.advance(0);
  const entries = (snapshot.entries as { source: string }[]).filter((entry) => entry.source === "route");
  restoreSnapshot(cache, { ...snapshot, entries });
  slow.loads[0]?.answer(40);
  await clock.advance(0);
  expect(view.get().value).toBe(40);
  hut.values.set(1, 2);
  cache.invalidate({ source: hut.source, params: 1 });
  await clock.advance(0);
  expect(view.get().value).toBe(42);
});

test("D2: of a dependency with mustRevalidate, a composite that is stale through another, which fails, is not shown", async () => {
  const { cache, clock } = stage();
  const strict = source({ name: "strict", maxAge: "1h", mustRevalidate: true, load: async () => 1 });
  const { source: other, loads } = heldSource("other", { maxAge: "1h", retry: false });
  const both = composite({
    name: "both",
    maxAge: "1d",
    retry: false,
    params: false,
    load: async (_, { read }) => [await read(strict), await read(other)],
  });
  const { view } = watch(cache, both);
  await clock.advance(0);
  loads[0]?.answer(2);
  await clock.advance(0);
  cache.delete(other);
  await clock.advance(0);
  loads[1]?.fail(new Failure("http", "broken", { status: 500 }));
  await clock.advance(0);
  expect(view.get()).toMatchObject({ state: "failed", failure: { message: "broken" } });
});
