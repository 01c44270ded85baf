import { type Duration, source, write } from "cista";
import { expect, test, vi } from "vitest";
import { heldSource, inShort, stage, watch } from "./stage.js";

// Rule F3: values that are asked for every so often, streams that are opened again, and the ends of both.

test("F3: a view that may not ask starts no polling", async () => {
  const { cache, clock } = stage();
  const load = vi.fn(async () => 1);
  const poll = source({ name: "poll", maxAge: "1h", load });
  watch(cache, poll);
  watch(cache, poll, undefined, { when: false, revalidateEvery: 1000 });
  await clock.advance("10s");
  expect(load).toHaveBeenCalledTimes(1);
});

test.each(["a request that takes long", "a request that waits for the network", "a pending write"])(
  "F3: while %s stands in for it, an interval that has passed sets no timers; it goes on afterwards",
  async (what) => {
    const { cache, clock, environment } = stage();
    const { source: poll, loads } = heldSource("poll", { maxAge: "1h", revalidateEvery: "10s", timeout: "1h" });
    let end = () => {};
    const send = () => new Promise<void>((answer) => (end = answer));
    const save = write({ name: "save", send, optimistic: (_, edit) => edit.at(poll).patch(() => 1) });
    cache.put(poll, undefined, 0);
    watch(cache, poll, undefined, { revalidateEvery: "5s" });
    if (what === "a pending write") cache.run(save);
    else environment.set({ online: what === "a request that takes long" });
    await clock.advance("5s");
    const setTimer = vi.spyOn(clock, "setTimer");
    await clock.advance("20s");
    expect(setTimer.mock.calls.length).toBeLessThan(10);
    environment.set({ online: true });
    end();
    await clock.advance("1s");
    expect(loads).toHaveLength(1);
    loads[0]?.answer(1);
    await clock.advance("10s");
    expect(loads).toHaveLength(2);
  },
);

test("F3: of the intervals of many views the shortest counts, also when it comes later and when it has left", async () => {
  const { cache, clock } = stage();
  const load = vi.fn(async () => ({ every: 4 }));
  const poll = source({ name: "poll", maxAge: "1h", load });
  const called = vi.fn((value: { every: number }) => value.every * 1000);
  const views = Array.from({ length: 300 }, () =>
    watch(cache, poll, undefined, { revalidateEvery: (value: any) => called(value) }),
  );
  await clock.advance("4s");
  expect(load).toHaveBeenCalledTimes(2);
  expect(called.mock.calls.length).toBeLessThan(5000); // n, not n squared
  const quick = watch(cache, poll, undefined, { revalidateEvery: "1s" });
  await clock.advance("3s");
  expect(load).toHaveBeenCalledTimes(5);
  quick.leave();
  await clock.advance("3s");
  expect(load.mock.calls.length).toBeLessThanOrEqual(6);
  for (const { leave } of views) leave();
  await clock.advance("1m");
  expect(load.mock.calls.length).toBeLessThanOrEqual(7);
});

test("F3: an attach opens a stream that was aborted again, with any lifetime", async () => {
  const { cache, clock } = stage();
  let opened = 0;
  const live = source({
    name: "live",
    maxAge: "1m",
    load: async function* () {
      yield ++opened;
      await new Promise(() => {});
    },
  });
  const first = watch(cache, live);
  await clock.advance("5s");
  first.leave();
  await clock.advance("2s");
  const { view } = watch(cache, live);
  expect(inShort(view.get())).toBe("ready 1 stale running");
  await clock.advance("10m");
  expect([inShort(view.get()), opened]).toEqual(["ready 2", 2]);
});

test("R2: a stream that was invalidated before its first value came is opened anew", async () => {
  const { cache, clock } = stage();
  let opened = 0;
  const live = source({
    name: "live",
    load: async function* () {
      const nth = ++opened;
      await new Promise<void>((resolve) => void clock.setTimer(() => resolve(), 1000));
      yield nth;
      await new Promise(() => {});
    },
  });
  const { view, seen } = watch(cache, live);
  await clock.advance("500ms");
  cache.invalidate({ source: live });
  await clock.advance("1s");
  expect(seen.at(-1)).toBe("ready 1 stale running");
  await clock.advance("1m");
  expect([inShort(view.get()), opened]).toEqual(["ready 2", 2]);
});

test("N1: a change that causes itself without end does not hang the page", async () => {
  const { cache, clock } = stage();
  const reported = vi.spyOn(console, "error").mockReturnValue(undefined);
  const poll = source({
    name: "poll",
    maxAge: "1h",
    load: async () => 1,
    revalidateEvery: (value: number): Duration => {
      cache.put(poll, undefined, value + 1);
      return "1s";
    },
  });
  const { view } = watch(cache, poll);
  await clock.advance("5s");
  expect(view.get().value).toBeGreaterThan(1);
  expect(String(reported.mock.calls[0]?.[0])).toContain("causes itself");
  reported.mockRestore();
  cache.dispose();
});

test("N5: the request budget stops an entry that its own revalidateEvery invalidates", async () => {
  const { cache, clock } = stage();
  const warned = vi.spyOn(console, "warn").mockReturnValue(undefined);
  const load = vi.fn(async () => 1);
  const poll = source({
    name: "poll",
    maxAge: "1h",
    load,
    revalidateEvery: (): Duration => {
      cache.invalidate({ key: "poll" });
      return "1s";
    },
  });
  const { view } = watch(cache, poll);
  await clock.advance("5s");
  expect(view.get().value).toBe(1);
  expect(load.mock.calls.length).toBeLessThan(200);
  expect(String(warned.mock.calls[0]?.[0])).toContain('"poll" asks too often');
  warned.mockRestore();
  cache.dispose();
});

test("F3: polls until the value says that it is done, and no longer", async () => {
  const { cache, clock } = stage();
  let left = 3;
  const repair = source({
    name: "repair",
    maxAge: "1d",
    revalidateEvery: (value: number) => (value > 0 ? "2s" : false),
    load: async () => left--,
  });
  const { leave } = watch(cache, repair);
  await clock.advance("1h");
  expect(left).toBe(-1);
  cache.put(repair, undefined, 5);
  left = 5;
  await clock.advance("4s");
  expect(left).toBe(3);
  leave();
  await clock.advance("1h");
  expect(left).toBe(3);
});

test("F3: of several intervals the shortest counts, for as long as its view is attached", async () => {
  const { cache, clock } = stage();
  let loads = 0;
  const hut = source({ name: "hut", maxAge: "1d", revalidateEvery: "1m", load: async () => ++loads });
  const slow = watch(cache, hut);
  await clock.advance(0);
  const quick = watch(cache, hut, undefined, { revalidateEvery: "10s" });
  const same = watch(cache, hut, undefined, { revalidateEvery: "10s" });
  await clock.advance("30s");
  expect(loads).toBe(4);
  quick.leave();
  await clock.advance("10s");
  expect(loads).toBe(5);
  same.leave();
  await clock.advance("59s");
  expect(loads).toBe(5);
  await clock.advance("1s");
  expect(loads).toBe(6);
  slow.leave();
});
