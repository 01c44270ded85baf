import { answer, type Cache, composite, createCache, entriesOf, intercept, source } from "cista";
import { virtualClock } from "cista/rehearsal";
import fc from "fast-check";
import { expect, test, vi } from "vitest";
import { share, shareKeeping } from "../src/core/lib/share.js";
import { heldSource, inShort, stage, watch } from "./stage.js";

const json = fc.jsonValue({ depthSize: "medium" });

test("N2: a shared value equals the one that came, and keeps every unchanged part (property)", () => {
  fc.assert(
    fc.property(json, json, (previous, next) => {
      const before = structuredClone({ kept: previous, other: previous });
      const came = { kept: structuredClone(previous), other: next };
      const expected = structuredClone(came);
      const frozen = Object.freeze(structuredClone(came));
      const kept = shareKeeping(before, frozen);
      expect(kept).toEqual(expected);
      expect(frozen).toEqual(expected); // somebody else's: untouched
      const shared = share(before, came);
      expect(shared).toEqual(expected);
      expect(shared.kept).toBe(before.kept);
      expect(kept.kept).toBe(before.kept);
      expect(share(before, structuredClone(before))).toBe(before);
    }),
  );
});

test("N2: hostile members and cycles are compared without harm", () => {
  const hostile = (value: string) => JSON.parse(`{"__proto__":{"a":${value}},"constructor":1}`);
  const shared = share(hostile("[1]"), Object.freeze({ ...hostile("[2]"), more: 1 }));
  expect(Object.getPrototypeOf(shared)).toBe(Object.prototype);
  expect(share(hostile("[1]"), hostile("[2]"))).toEqual(hostile("[2]"));
  const ring = () => {
    const one: any = { name: "a" };
    one.self = one;
    one.again = one;
    return one;
  };
  const next = ring();
  expect(share(ring(), next)).toBe(next);
});

test("N1: listeners are told before the call returns, in order, once each", () => {
  const { cache } = stage();
  const hut = source({ name: "hut", load: async () => "" });
  const reported: unknown[] = [];
  vi.stubGlobal("reportError", (thrown: unknown) => reported.push(thrown));
  const view = cache.view(hut, undefined, { when: false });
  const told: string[] = [];
  view.subscribe(() => {
    told.push("first");
    leaveThird();
  });
  view.subscribe(() => {
    told.push("second");
    throw new Error("a listener's own");
  });
  const leaveThird = view.subscribe(() => told.push("third"));
  const twice = () => told.push("twice");
  view.subscribe(twice);
  view.subscribe(twice); // two subscriptions
  view.subscribe(() => told.push("late")); // subscribes nobody meanwhile
  cache.put(hut, undefined, "value");
  expect(told).toEqual(["first", "second", "twice", "twice", "late"]);
  expect(reported).toEqual([new Error("a listener's own")]);
  vi.unstubAllGlobals();
});

test("N1: a call that touches several entries tells when all are consistent", () => {
  const { cache } = stage();
  const hut = source({ name: "hut", load: async (_: number) => 0 });
  for (const id of [1, 2]) cache.put(hut, id, 0, { groups: ["huts"] });
  const told: string[] = [];
  const both = () => [1, 2].map((id) => inShort(cache.peek(hut, id))).join(" ");
  for (const [name, id] of [
    ["a", 1],
    ["b", 2],
    ["c", 1],
  ] as const) {
    cache.view(hut, id, { when: false }).subscribe(() => told.push(`${name}: ${both()}`));
  }
  cache.invalidate({ group: "huts" });
  expect(told).toEqual(["a", "b", "c"].map((name) => `${name}: ready 0 stale ready 0 stale`));
});

test("N1: when a listener changes the entry again, everybody is told once more", () => {
  const { cache } = stage();
  const count = source({ name: "count", load: async () => 0 });
  const view = cache.view(count, undefined, { when: false });
  const told: string[] = [];
  view.subscribe(() => {
    const { value = 0 } = view.get();
    told.push(`a${value}`);
    if (value < 3) cache.put(count, undefined, value + 1);
  });
  view.subscribe(() => told.push(`b${view.get().value}`));
  cache.put(count, undefined, 1);
  expect(told).toEqual(["a1", "a2", "a3", "b3"]);
});

test("N2: an equal value keeps the reference; a view with pick is told of its part only", async () => {
  const { cache, clock } = stage();
  const { source: hut, loads } = heldSource("hut", { maxAge: "10s" });
  const whole = watch(cache, hut);
  const part = watch(cache, hut, undefined, { pick: (value: any) => ({ tags: value.tags.filter(Boolean) }) });
  loads[0]?.answer({ tags: ["snow", ""], water: 1 });
  await clock.advance(0);
  const [first, firstPart] = [whole.view.get(), part.view.get()];
  void whole.view.revalidate();
  loads[1]?.answer({ tags: ["snow", ""], water: 1 });
  await clock.advance(0);
  expect(whole.view.get().value).toBe(first.value);
  expect(whole.view.get()).toBe(whole.view.get());
  expect(part.view.get()).toBe(firstPart);
  void whole.view.revalidate();
  loads[2]?.answer({ tags: ["snow", ""], water: 2 });
  await clock.advance(0);
  expect(whole.view.get().value.tags).toBe(first.value.tags);
  expect(part.view.get()).toBe(firstPart);
  expect(part.seen).toHaveLength(1);
  await clock.advance("10s");
  expect(part.seen.at(-1)).toBe('ready {"tags":["snow"]} stale');
  expect(part.view.get().value).toBe(firstPart.value);
});

test("N3: a view shows before it attaches the very object that it shows after", async () => {
  const { cache, clock, environment } = stage();
  const { source: hut, loads } = heldSource("hut", { maxAge: "10s" });
  const states = async (id: number) => {
    const view = cache.view<any, any>(hut, id);
    const before = view.get();
    const leave = view.subscribe(() => {});
    expect(view.get()).toBe(before);
    leave();
    return inShort(before);
  };
  expect(await states(1)).toBe("loading running");
  cache.put(hut, 2, "held");
  expect(await states(2)).toBe('ready "held"');
  await clock.advance("10s");
  expect(await states(2)).toBe('ready "held" stale running');
  environment.set({ online: false });
  expect(await states(3)).toBe("loading offline");
  const idle = watch(cache, hut, 4, { when: false });
  expect(inShort(idle.view.get())).toBe("empty");
  expect(loads).toHaveLength(2);
  environment.set({ online: true });
  void idle.view.revalidate();
  expect(inShort(idle.view.get())).toBe("loading running");
});

test("F8: an unwatched entry goes after retain, or as the least recently used", async () => {
  const { cache, clock } = stage({ capacity: 2, retain: "1m" });
  const hut = source({ name: "hut", load: async (_: number) => "" });
  const held = () => [...entriesOf(cache)].map(({ params }) => params);
  for (const id of [1, 2, 3]) cache.put(hut, id, `hut ${id}`);
  expect(held()).toEqual([2, 3]);
  await cache.read(hut, 2);
  cache.put(hut, 4, "hut 4");
  expect(held()).toEqual([2, 4]);
  const { leave } = watch(cache, hut, 4);
  await clock.advance("1m");
  expect(held()).toEqual([4]);
  leave();
  await clock.advance("59s");
  expect(held()).toEqual([4]);
  await clock.advance("1s");
  expect(held()).toEqual([]);
  expect(clock.pendingTimers).toBe(0);
  const none = stage({ capacity: 0 });
  none.cache.put(hut, 1, "at once let go");
  await none.clock.advance(0); // not before whoever uses it had time to come
  expect([...entriesOf(none.cache)]).toEqual([]);
});

test("F8: without settings, an unwatched entry is let go after five minutes (docs/limits.md)", async () => {
  const { cache, clock } = stage();
  cache.put(source({ name: "hut", load: async () => 1 }), undefined, 1);
  await clock.advance("5m");
  expect([...entriesOf(cache)]).toHaveLength(0);
  cache.put(source({ name: "route", load: async () => 1 }), undefined, 1);
  await clock.advance(299_999);
  expect([...entriesOf(cache)]).toHaveLength(1);
});

test("S3: dispose leaves no timer, listener or request; a second one is harmless", async () => {
  const { cache, clock, environment } = stage();
  const { source: hut, loads } = heldSource("hut");
  const { view, leave } = watch(cache, hut, 1);
  const read = cache.read(hut, 2).catch((failure) => failure);
  const reading = view.get();
  cache.put(hut, 3, "held");
  cache.dispose();
  cache.dispose();
  expect(loads.every(({ signal }) => signal.aborted)).toBe(true);
  expect(await read).toMatchObject({ kind: "aborted" });
  expect(clock.pendingTimers).toBe(0);
  environment.set({ visible: false });
  environment.set({ visible: true });
  loads[0]?.answer("late");
  await clock.advance("1d");
  leave();
  expect(clock.pendingTimers).toBe(0);
  expect(loads).toHaveLength(2);
  for (const call of [
    () => cache.peek(hut),
    () => cache.view(hut),
    () => cache.invalidate("all"),
    () => cache.put(hut, 1, 1),
  ]) {
    expect(call).toThrow(expect.objectContaining({ code: "cache-disposed" }));
  }
  await expect(cache.read(hut)).rejects.toMatchObject({ code: "cache-disposed" });
  await expect(reading.revalidate()).rejects.toMatchObject({ code: "cache-disposed" });
});

test("intercept stands around every load, the last one added outermost, until it is removed", async () => {
  const { cache } = stage();
  const hut = source({ name: "hut", load: async (id: number) => `hut ${id}` });
  const inner = intercept(cache, { load: async ({ key }, proceed) => `${key} <${await proceed()}>` });
  intercept(cache, { load: async (_, proceed) => `(${await proceed()})` });
  expect(await cache.read(hut, 1)).toBe("(hut 1 <hut 1>)");
  inner();
  expect(await cache.read(hut, 2)).toBe("(hut 2)");
});

const knower = (cache: Cache, seen: string[], name = "known") =>
  intercept(cache, {
    known: ({ key, cause }) => {
      seen.push(`${key} ${cause}`);
      return key.includes("known") ? answer(`${name} ${key}`, { maxAge: "1m" }) : undefined;
    },
  });

test("R10: a value that an interceptor knows is there at once, without a load", async () => {
  const cache = createCache({ clock: virtualClock() });
  const loads: string[] = [];
  const hut = source({ name: "hut", load: async (id: string) => loads.push(id) && `loaded ${id}` });
  const seen: string[] = [];
  knower(cache, seen);
  const view = cache.view(hut, "known 1");
  const end = view.subscribe(() => {});
  expect(view.get()).toMatchObject({ state: "ready", value: 'known hut "known 1"', fresh: true, request: "none" });
  expect(await cache.read(hut, "known 2")).toBe('known hut "known 2"');
  cache.prefetch(hut, "known 3");
  expect(cache.peek(hut, "known 3").value).toBe('known hut "known 3"');
  expect(loads).toEqual([]);
  expect(await cache.read(hut, "other")).toBe("loaded other");
  // What is held, or asked for expressly, is no question to it.
  await cache.read(hut, "known 2");
  await cache.read(hut, "known 2", { cache: "reload" });
  expect(seen).toEqual(['hut "known 1" attach', 'hut "known 2" read', 'hut "known 3" prefetch', 'hut "other" read']);
  expect(loads).toEqual(["other", "known 2"]);
  end();
});

test("R10: an interceptor's value answers an invalidated entry, and is shown to its watchers", async () => {
  const { cache } = stage();
  const quiet = createCache({ clock: virtualClock() });
  const hut = source({ name: "hut", load: async (id: string) => `loaded ${id}` });
  for (const each of [cache, quiet]) {
    each.put(hut, "known", "before");
    each.invalidate(hut);
    knower(each, []);
    expect(await each.read(hut, "known")).toBe(each === quiet ? 'known hut "known"' : "loaded known"); // the stage listens to the journal
  }
});

test("R10: composites and their dependencies are loaded; an outer interceptor's load is not passed by", async () => {
  const cache = createCache({ clock: virtualClock() });
  const hut = source({ name: "hut", load: async (id: string) => `loaded ${id}` });
  const both = composite({
    name: "known-both",
    params: false,
    load: async (_, { read }) => `[${await read(hut, "a known")}]`,
  });
  const seen: string[] = [];
  knower(cache, seen);
  expect(await cache.read(both)).toBe("[loaded a known]");
  intercept(cache, { load: async (_, proceed) => `(${await proceed()})` });
  expect(await cache.read(hut, "known")).toBe("(loaded known)");
  const outside = knower(cache, seen, "outside");
  expect(await cache.read(hut, "known 2")).toBe('outside hut "known 2"');
  outside();
});

test.each([10, 600, 5000])(
  "N2: a member beside the %i items of a list, or under a symbol, is not taken for the same",
  (count) => {
    const rows = () => Array.from({ length: count }, (_, id) => ({ id }));
    const beside = (total: number) => Object.assign(rows(), { total });
    const { cache } = stage();
    const s = source<void, Promise<any>>({ name: "s", load: async () => 0 });
    for (const make of [
      beside,
      (total: number) => ({ list: rows(), [Symbol.for("total")]: total }),
      (total: number) => ({ list: beside(total) }),
    ]) {
      cache.put(s, undefined, make(1));
      cache.put(s, undefined, make(2));
      const { value } = cache.peek(s) as { value?: any };
      expect(value.total ?? value[Symbol.for("total")] ?? value.list.total).toBe(2);
    }
  },
);
