import { composite, createCache, entriesOf, Failure, matching, missing, source, write } from "cista";
import { expect, test, vi } from "vitest";
import { inDevelopmentOnly } from "../src/react/development.js";
import { heldSource, stage, watch } from "./stage.js";

const told = (cache: ReturnType<typeof stage>["cache"]) => {
  const all: unknown[] = [];
  cache.onFailure(({ kind, message }, action) => all.push([kind, message, action]));
  return all;
};
const refusal = () => new Failure("http", "The crew is out.", { status: 409 });

test("a handle is one entry, with all that can be done with it", async () => {
  const { cache } = stage();
  const { source: repair, loads } = heldSource("repair", { maxAge: "1h" });
  const one = cache.at(repair, { id: 1 });
  expect([one.key, one.peek().state, one.patch((now) => now), one.invalidate(), one.delete()]).toEqual([
    'repair {"id":1}',
    "empty",
    false,
    false,
    false,
  ]);
  expect([...entriesOf(cache)]).toEqual([]);
  const reading = one.read();
  loads[0]?.answer({ status: "open" });
  expect(await reading).toEqual({ status: "open" });
  expect(one.patch((now) => ({ ...now, status: "done" }))).toBe(true);
  expect(one.view().get().value).toEqual({ status: "done" });
  one.put({ status: "gone" });
  expect(one.peek()).toMatchObject({ value: { status: "gone" }, fresh: true });
  const asked = one.revalidate();
  loads[1]?.answer({ status: "back" });
  expect(await asked).toMatchObject({ state: "ready", value: { status: "back" } });
  expect([one.invalidate(), one.peek().fresh, one.delete(), one.peek().state]).toEqual([true, false, true, "empty"]);
  one.prefetch();
  expect(loads).toHaveLength(3);
});

test("a selector means every entry whose params have these members, also within", () => {
  const { cache } = stage();
  const { source: jobs } = heldSource("jobs");
  const when = new Date(0);
  const all: unknown[] = [
    { status: "done" },
    { status: "done", page: 2 },
    { status: "open", by: { crew: "Fern", at: when } },
    [1, 2],
    "done",
    undefined,
  ];
  for (const params of all) cache.put(jobs, params, 1);
  const meant = (params: any) => {
    const before = [...entriesOf(cache)].filter(({ reading }) => !reading.fresh).length;
    cache.invalidate({ source: jobs, params });
    const after = [...entriesOf(cache)].filter(({ reading }) => !reading.fresh).map((entry) => entry.params);
    for (const each of all) cache.put(jobs, each, 1);
    return before === 0 ? after : [];
  };
  expect(meant({ status: "done" })).toEqual(all.slice(0, 2));
  expect(meant({ status: "done", page: undefined })).toEqual(all.slice(0, 2));
  expect(meant({ by: { at: "1970-01-01T00:00:00.000Z" } })).toEqual([all[2]]);
  expect(meant({ by: {} })).toEqual([all[2]]);
  expect(meant({ status: "none" })).toEqual([]);
  expect(meant({})).toHaveLength(3);
  expect(meant([1, 2])).toEqual([all[3]]);
  expect(meant("done")).toEqual(["done"]);
  expect(meant(undefined)).toEqual([undefined]);
  expect(() => cache.invalidate({ source: jobs, params: { status: Number.NaN } })).toThrow("params.status is NaN");
  expect(matching(jobs, { status: "open" })).toEqual({ source: jobs, params: { status: "open" } });
});

test("W1: a change is laid over each entry that it concerns, whatever its params, and over no other", async () => {
  const { cache, clock } = stage();
  const { source: jobs, loads } = heldSource("jobs", { maxAge: "1h" });
  const send = vi.fn(async () => {});
  const remove = write<number, void>({
    name: "remove",
    send,
    optimistic: (id, edit) =>
      edit.each(jobs).patch((list, { page }) => (page === 9 ? [] : list.filter((each: number) => each !== id))),
  });
  for (const page of [1, 2, 3]) cache.put(jobs, { page }, [page, 4]);
  cache.put(jobs, { page: 7 }, [7]);
  for (const page of [1, 7, 8]) watch(cache, jobs, { page });
  const run = cache.run(remove, 4);
  const shown = (page: number) => cache.view<any, any>(jobs, { page }).get();
  expect([1, 2, 7].map((page) => [shown(page).value, shown(page).pendingWrites])).toEqual([
    [[1], 1],
    [[2], 1],
    [[7], 0],
  ]);
  expect(shown(8).state).toBe("loading");
  await run;
  await clock.advance(0);
  expect(loads.map(({ params }) => params.page)).toEqual([8, 1]); // what it did not concern is as good as before
});

test("E1: every failure is heard in one place, of requests and of writes, once each", async () => {
  const { cache, clock, events } = stage();
  const all = told(cache);
  const { source: part, loads } = heldSource("part");
  const whole = composite({ name: "whole", retry: false, params: false, load: (_, { read }) => read(part, 1) });
  const save = write<string, void>({
    name: "save",
    send: async () => {
      throw refusal();
    },
  });
  watch(cache, whole);
  await clock.advance(0);
  loads[0]?.fail(new Failure("http", "Broken.", { status: 500 }));
  await clock.advance(0);
  expect(all).toEqual([["http", "Broken.", { source: "part", key: "part 1", params: 1 }]]);
  await Promise.allSettled([cache.run(save, "a"), cache.run(save, "b")]);
  expect(all.slice(1)).toEqual([
    ["http", "The crew is out.", { write: "save", input: "a" }],
    ["http", "The crew is out.", { write: "save", input: "b" }],
  ]);
  expect(events.filter(({ kind, write }) => kind === "failure" && write === "save")).toHaveLength(2);
});

test("E1: errors of a definition's callbacks are heard too; an abort is not", async () => {
  const { cache } = stage();
  const all = told(cache);
  const stop = vi.spyOn(console, "error").mockReturnValue();
  const { source: jobs } = heldSource("jobs");
  cache.put(jobs, undefined, [1]);
  const boom = (what: string) => () => {
    throw new Error(what);
  };
  const odd = write<void, void>({
    name: "odd",
    send: async () => {},
    optimistic: (_, edit) => edit.at(jobs).patch(boom("patch")),
    onSuccess: boom("onSuccess"),
    invalidates: boom("invalidates"),
  });
  watch(cache, jobs);
  await cache.run(odd);
  expect(all.map((each: any) => each[1])).toEqual(["patch", "invalidates", "onSuccess"]);
  const never = write<void, void>({ name: "never", send: () => new Promise(() => {}) });
  const end = new AbortController();
  const given = cache.run(never, undefined, { signal: end.signal });
  end.abort();
  await expect(given).rejects.toThrow();
  await cache.signOut();
  expect(all).toHaveLength(3);
  stop.mockRestore();
});

test("D6: a composite of a missing dependency is missing, unless the load catches it", async () => {
  const { cache, clock } = stage();
  let there: unknown = missing();
  const hut = source({ name: "hut", maxAge: "1m", load: async (_: { id: number }) => there });
  const page = composite({
    name: "page",
    maxAge: "1m",
    params: false,
    load: async (_, { read }) => ({ hut: await read(hut, { id: 1 }) }),
  });
  const kind = composite({
    name: "kind",
    params: false,
    load: async (_, { read }) => read(hut, { id: 1 }).catch(() => "none"),
  });
  const all = told(cache);
  const { view, seen } = watch(cache, page);
  watch(cache, kind);
  await clock.advance(0);
  expect(seen).toEqual(["missing"]);
  expect(cache.peek(kind).value).toBe("none");
  await expect(cache.read(page)).rejects.toMatchObject({ kind: "missing", key: "page" });
  there = "Harebell";
  await cache.revalidate(hut);
  cache.invalidate(hut);
  await clock.advance(0);
  expect(view.get()).toMatchObject({ state: "ready", value: { hut: "Harebell" } });
  expect(all).toEqual([]);
});

test("in development a held value cannot be changed in place, with a layer or without", async () => {
  const { cache } = stage();
  const stop = vi.spyOn(console, "error").mockReturnValue();
  const { source: hut } = heldSource("hut");
  const bad = write<void, void>({
    name: "bad",
    send: async () => {
      throw refusal();
    },
    optimistic: (_, edit) => edit.at(hut).patch((now) => Object.assign(now, { water: 1 })),
  });
  cache.put(hut, undefined, { water: 90, bunks: [{ free: true }], opened: new Date(0) });
  const { view } = watch(cache, hut);
  await cache.run(bad).catch(() => {});
  expect(view.get().value).toMatchObject({ water: 90 });
  expect(() => ((view.get() as any).value.bunks[0].free = false)).toThrow(TypeError);
  expect(Object.isFrozen((view.get() as any).value.opened)).toBe(false);
  stop.mockRestore();
});

test("R7: a source that is defined again and again has one budget", async () => {
  const { cache, clock } = stage();
  const warn = vi.spyOn(console, "warn").mockReturnValue();
  let loads = 0;
  for (let turn = 0; turn < 300; turn++) {
    const again = source({ name: "again", load: async () => ++loads });
    await Promise.resolve();
    watch(cache, again);
    await clock.advance(0);
  }
  expect(loads).toBeLessThan(110);
  warn.mockRestore();
});

test("N2: an error of pick is shown as a failure, and reported once", async () => {
  const { cache } = stage();
  const errors = vi.spyOn(console, "error").mockReturnValue();
  const { source: hut } = heldSource("hut");
  cache.put(hut, undefined, { water: 1 });
  const { view } = watch(cache, hut, undefined, { pick: (value: any) => value.bunks.free });
  const reading = view.get();
  expect(reading).toMatchObject({
    state: "failed",
    failure: { kind: "load", key: "hut", message: expect.stringContaining("pick of hut threw") },
  });
  expect(view.get()).toBe(reading);
  expect(errors).toHaveBeenCalledTimes(1);
  errors.mockRestore();
});

test("a write that waits without a network is not sent after sign-out", async () => {
  const { cache, environment } = stage();
  const send = vi.fn(async () => {});
  const save = write<void, void>({ name: "save", send });
  environment.set({ online: false });
  const run = cache.run(save);
  await cache.signOut();
  environment.set({ online: true });
  await expect(run).rejects.toMatchObject({ kind: "aborted" });
  expect(send).not.toHaveBeenCalled();
  expect(() => createCache().at(undefined as never)).toThrow("A source was expected");
});

test("warnings of React's binding are told in order, also those that come while the texts are loaded", async () => {
  const told: number[] = [];
  const texts = import("../src/react/warnings.js");
  for (let n = 0; told.length < 100; n++) {
    inDevelopmentOnly(() => told.push(n));
    await texts; // from when the texts are here: in each turn of the microtasks
  }
  expect(told).toEqual([...told].sort((one, other) => one - other));
});
