import { answer, entriesOf, type Freshness, journalOf, missing, source, unchanged } from "cista";
import fc from "fast-check";
import { expect, test } from "vitest";
import { defaultPolicy, policyWith } from "../src/core/api/freshness.js";
import { heldSource, inShort, stage, watch } from "./stage.js";

test("F1: fresh exactly while the lifetime exceeds the age (RFC 9111 §4.2), by fractions of a millisecond too", async () => {
  const fraction = fc.double({ min: 0, max: 3, noNaN: true, noDefaultInfinity: true });
  const property = fc.asyncProperty(fraction, fraction, fraction, fraction, async (maxAge, within, age, since) => {
    const { cache, clock } = stage({ now: 0 }); // a moment of today is exact to a quarter of a microsecond only
    const hut = source({ name: "hut", load: () => new Promise<number>(() => {}) });
    cache.put(hut, undefined, 1, { maxAge, staleWhileRevalidate: within, age });
    await clock.advance(since);
    const [entry] = [...entriesOf(cache)];
    if (Math.abs(maxAge - age - since) > 1e-6) expect(cache.peek(hut).fresh).toBe(age + since < maxAge);
    expect(entry?.staleAt).toBeCloseTo(clock.now() - since + maxAge - age, 5);
    expect(entry?.expiredAt).toBeCloseTo(clock.now() - since + maxAge - age + within, 5);
    const ofToday = stage();
    ofToday.cache.put(hut, undefined, 1, { maxAge, staleWhileRevalidate: within, age });
    await ofToday.clock.advance(since);
    for (const each of [cache, ofToday.cache]) {
      watch(each, hut); // due is due: no round without end
      each.dispose();
    }
  });
  await fc.assert(property);
});

test("F7: the answer's own details win over the source's policy, member by member", () => {
  const own = policyWith(defaultPolicy, { maxAge: "1m", staleIfError: "2m" });
  expect(policyWith(own, { maxAge: "5s", immutable: true })).toEqual({ ...own, maxAge: 5000, immutable: true });
  expect(policyWith(own, { mustRevalidate: true })).toMatchObject({
    maxAge: 60_000,
    staleWhileRevalidate: 0,
    staleIfError: 0,
  });
});

test("F2: fresh is a hit, stale is shown at once and revalidated in the background, expired is waited for", async () => {
  const { cache, clock, events } = stage();
  const { source: hut, loads } = heldSource("hut", { maxAge: "10s", staleWhileRevalidate: "20s" });
  const answered = async (value: string) => {
    loads.at(-1)?.answer(value);
    await clock.advance(0);
  };
  void cache.read(hut);
  await answered("one");
  await clock.advance("9999ms");
  expect(await cache.read(hut)).toBe("one");
  expect(loads).toHaveLength(1);
  await clock.advance("1ms");
  expect(await cache.read(hut)).toBe("one");
  expect(loads).toHaveLength(2); // behind
  await answered("two");
  await clock.advance("30s");
  const waited = cache.read(hut);
  await answered("three");
  expect(await waited).toBe("three");
  const statuses = events.filter(({ kind }) => kind === "read").map(({ cacheStatus }) => cacheStatus);
  expect(statuses).toEqual(["Cista; fwd=miss", "Cista; hit; ttl=0", "Cista; hit; ttl=0", "Cista; fwd=stale"]);
});

test("F2: a stale value is shown at an attach, and revalidated in the background only if a trigger says so", async () => {
  const { cache, clock } = stage();
  const { source: quiet, loads: none } = heldSource("quiet", { maxAge: "10s", triggers: [] });
  const { source: usual, loads } = heldSource("usual", { maxAge: "10s" });
  for (const each of [quiet, usual]) cache.put(each, undefined, 1);
  await clock.advance("15s");
  expect(inShort(watch(cache, quiet).view.get())).toBe("ready 1 stale");
  expect(inShort(watch(cache, usual).view.get())).toBe("ready 1 stale running");
  expect([none.length, loads.length]).toEqual([0, 1]);
});

test("F4: an answer that came stale is shown to all, and not asked for again by itself", async () => {
  const { cache, clock } = stage();
  const { source: basket, loads } = heldSource("basket", { maxAge: 0, staleWhileRevalidate: 0 });
  const { view, seen } = watch(cache, basket);
  loads[0]?.answer(["h-03"]);
  await clock.advance("1h");
  expect(seen).toEqual(['ready ["h-03"] stale']);
  expect(loads).toHaveLength(1);
  const newcomer = watch(cache, basket);
  expect(newcomer.view.get()).toBe(view.get()); // F4
  expect(inShort(view.get())).toBe('ready ["h-03"] stale running');
  loads[1]?.answer(["h-03", "h-07"]);
  await clock.advance("1h");
  expect(inShort(view.get())).toBe('ready ["h-03","h-07"] stale');
  expect(loads).toHaveLength(2);
});

test("F3: a view is one watcher, however many listen to it: it comes with the first and goes with the last", async () => {
  const { cache, clock } = stage();
  const { source: basket, loads } = heldSource("basket", { maxAge: 0, staleWhileRevalidate: 0 });
  const events: string[] = [];
  journalOf(cache).subscribe(({ kind }) => events.push(kind), ["attach", "detach"]);
  const { view, seen, leave } = watch(cache, basket);
  loads[0]?.answer(["h-03"]);
  await clock.advance(0);
  const heard: string[] = [];
  const stop = view.subscribe(() => heard.push("again"));
  expect([...entriesOf(cache)][0]?.watchers).toBe(1);
  expect(loads).toHaveLength(1);
  cache.put(basket, undefined, ["h-07"]);
  leave();
  cache.put(basket, undefined, []);
  expect([seen.length, heard.length]).toEqual([2, 2]);
  expect(events).toEqual(["attach"]);
  stop();
  stop();
  expect([...entriesOf(cache)][0]?.watchers).toBe(0);
  expect(events).toEqual(["attach", "detach"]);
});

test("F3: a watched value turns stale by itself, and is asked for when it expires", async () => {
  const { cache, clock, environment } = stage();
  const { source: bunks, loads } = heldSource("bunks", { maxAge: "5s", staleWhileRevalidate: "5s" });
  cache.put(bunks, undefined, 11);
  const { seen } = watch(cache, bunks);
  await clock.advance("5s");
  expect(seen).toEqual(["ready 11 stale"]);
  expect(loads).toHaveLength(0);
  await clock.advance("5s");
  expect(seen.slice(1)).toEqual(["ready 11 stale running"]);
  loads[0]?.answer(10);
  await clock.advance(0);
  environment.set({ visible: false });
  await clock.advance("1h");
  expect(loads).toHaveLength(1);
  environment.set({ visible: true });
  expect(loads.map(({ cause }) => cause)).toEqual(["expired", "visible"]);
});

test("F3: a value that expired while the page was hidden is asked for when the page is visible", async () => {
  const { cache, clock, environment } = stage();
  const { source: bunks, loads } = heldSource("bunks", { maxAge: "5s", staleWhileRevalidate: "5s", triggers: [] });
  cache.put(bunks, undefined, 11);
  const { view } = watch(cache, bunks);
  environment.set({ visible: false });
  await clock.advance("1m");
  expect(inShort(view.get())).toBe("empty"); // past every allowance, and nobody has asked
  expect(loads).toHaveLength(0);
  environment.set({ online: false });
  environment.set({ visible: true, online: true });
  expect(loads.map(({ cause }) => cause)).toEqual(["expired"]);
});

test("F5: a watcher of an invalidated value keeps it; a new read waits", async () => {
  const { cache, clock } = stage();
  const { source: hut, loads } = heldSource("hut", { maxAge: "1h" });
  cache.put(hut, { id: 1 }, "old", { groups: ["huts"] });
  cache.put(hut, { id: 2 }, "old", { groups: ["huts"] });
  const { seen } = watch(cache, hut, { id: 1 });
  expect(cache.invalidate({ group: "huts" })).toBe(2);
  expect(cache.invalidate({ group: "Huts" })).toBe(0);
  expect(seen).toEqual(['ready "old" stale running']);
  expect(loads).toHaveLength(1); // the unwatched one waits until it is wanted
  const read = cache.read(hut, { id: 2 }).catch((failure) => failure);
  loads[0]?.fail(new Error("no"));
  loads[1]?.fail(new Error("no"));
  await clock.advance(0);
  expect(seen.at(-1)).toBe('ready "old" stale (load)');
  expect(await read).toMatchObject({ kind: "load" });
});

test("F5: an invalidated value that must be revalidated is shown to nobody, and stands in for no failure", async () => {
  const { cache, clock } = stage();
  const { source: hut, loads } = heldSource("hut", { maxAge: "1h", mustRevalidate: true });
  cache.put(hut, { id: 1 }, "old", { groups: ["huts"] });
  cache.put(hut, { id: 2 }, "old", { groups: ["huts"] });
  const { seen } = watch(cache, hut, { id: 1 });
  const { view: watching } = watch(cache, hut, { id: 2 }, { when: false });
  cache.invalidate({ group: "huts" });
  expect(seen).toEqual(["loading running"]);
  expect(inShort(watching.get())).toBe("empty");
  loads[0]?.fail(new Error("no"));
  await clock.advance(0);
  expect(seen.at(-1)).toBe("failed (load)");
});

test("F5: stale-if-error covers for as long as it says, then the failure is shown", async () => {
  const { cache, clock } = stage();
  const { source: hut, loads } = heldSource("hut", { maxAge: "10s", staleWhileRevalidate: "10s", staleIfError: "1m" });
  cache.put(hut, undefined, "old");
  const { seen } = watch(cache, hut);
  await clock.advance("20s");
  loads[0]?.fail(new Error("no"));
  await clock.advance(0);
  expect(seen.at(-1)).toBe('ready "old" stale (load)');
  const read = cache.read(hut);
  loads[1]?.fail(new Error("no"));
  await clock.advance(0);
  expect(await read).toBe("old");
  const strict = cache.read(hut, undefined, { cache: "no-cache" }).catch((failure) => failure);
  loads[2]?.fail(new Error("no"));
  expect(await strict).toMatchObject({ kind: "load" });
  await clock.advance("50s");
  expect(seen.at(-1)).toBe("failed (load)");
});

test("F2: mustRevalidate, once stale never shown again before it is asked about (RFC 9111 §5.2.2.2)", async () => {
  const { cache, clock } = stage();
  const { source: bunks, loads } = heldSource("bunks", { maxAge: "5s", mustRevalidate: true });
  cache.put(bunks, undefined, 11);
  const { seen } = watch(cache, bunks);
  await clock.advance("5s");
  loads[0]?.fail(new Error("no"));
  await clock.advance(0);
  expect(seen).toEqual(["loading running", "failed (load)"]);
});

test("S2: a noStore value is given to all that watch or wait, and dropped with the last of these", async () => {
  const { cache, clock } = stage();
  const { source: basket, loads } = heldSource("basket");
  const [one, other] = [watch(cache, basket), watch(cache, basket)];
  loads[0]?.answer(answer(["h-03"], { noStore: true }));
  await clock.advance(0);
  expect(one.view.get()).toBe(other.view.get());
  one.leave();
  await clock.advance("1s");
  expect(cache.peek(basket).value).toEqual(["h-03"]);
  other.leave();
  await clock.advance(0);
  expect(cache.peek(basket).state).toBe("empty");
  const read = cache.read(basket);
  loads[1]?.answer(answer(["h-07"], { noStore: true }));
  await clock.advance(0);
  expect(await read).toEqual(["h-07"]);
  await clock.advance(0);
  expect(cache.peek(basket).state).toBe("empty");
});

test("F2: immutable is not asked for while fresh, not even on demand; a reload does ask (RFC 8246 §2)", async () => {
  const { cache, clock } = stage();
  const { source: portrait, loads } = heldSource("portrait", { maxAge: "1d", immutable: true });
  cache.put(portrait, undefined, "stone and slate");
  const { view } = watch(cache, portrait);
  await view.revalidate();
  expect(loads).toHaveLength(0);
  void cache.read(portrait, undefined, { cache: "reload" });
  expect(loads.map(({ mode }) => mode)).toEqual(["reload"]);
  loads[0]?.answer("stone, slate and moss");
  await clock.advance(0);
  expect(view.get().value).toBe("stone, slate and moss");
});

test("F6: an unchanged value is fresh again, the same object; a missing one is cached alike", async () => {
  const { cache, clock } = stage();
  const held: unknown[] = [];
  const answers = [
    answer({ water: 90 }, { validator: { etag: '"a"' }, maxAge: "10s" }),
    unchanged(),
    missing({ maxAge: "10s" }),
  ];
  const hut = source<void, Promise<any>>({
    name: "hut",
    params: false,
    load: async (_, context) => {
      held.push(context.held?.validator);
      return answers.shift();
    },
  });
  const { view, seen } = watch(cache, hut);
  await clock.advance(0);
  const { value } = view.get();
  await clock.advance("10s");
  await view.revalidate();
  expect(view.get()).toMatchObject({ state: "ready", fresh: true });
  expect(view.get().value).toBe(value);
  await clock.advance("10s");
  await view.revalidate();
  expect(seen.at(-1)).toBe("missing");
  expect(held).toEqual([undefined, { etag: '"a"' }, { etag: '"a"' }]);
  await clock.advance("10s");
  expect(seen.at(-1)).toBe("missing stale");
});

test("F2: the cache modes of a read have the meaning that fetch gives them", async () => {
  const { cache, clock } = stage();
  const { source: hut, loads } = heldSource("hut", { maxAge: "10s" });
  const read = (mode: any) => cache.read(hut, undefined, { cache: mode });
  const answered = async (reading: Promise<unknown>, value: string) => {
    loads.at(-1)?.answer(value);
    await clock.advance(0);
    return reading;
  };
  await expect(read("only-if-cached")).rejects.toMatchObject({ kind: "not-cached", key: "hut" });
  expect(await answered(read("no-store"), "apart")).toBe("apart");
  expect(cache.peek(hut).state).toBe("empty");
  expect(await answered(read("default"), "one")).toBe("one");
  expect(await answered(read("no-cache"), "two")).toBe("two"); // asks though it is fresh
  expect(await answered(read("reload"), "three")).toBe("three");
  await clock.advance("1m");
  expect(await read("only-if-cached")).toBe("three"); // however old
  expect(await read("force-cache")).toBe("three");
  expect(loads.map(({ mode }) => mode)).toEqual(["no-store", "default", "no-cache", "reload"]);
});

test("F7: a put value counts from now, a patched one stays as old and as trusted as it was", async () => {
  const { cache, clock } = stage();
  const { source: hut, loads } = heldSource("hut", { maxAge: "10s" });
  expect(cache.at(hut).patch((water: number) => water - 1)).toBe(false);
  cache.put(hut, undefined, 90, { age: "3s" });
  await clock.advance("2s");
  expect(cache.at(hut).patch((water: number) => water - 1)).toBe(true);
  await clock.advance("4999ms");
  expect(inShort(cache.peek(hut))).toBe("ready 89");
  await clock.advance("1ms");
  expect(inShort(cache.peek(hut))).toBe("ready 89 stale");
  expect(clock.now() - (cache.peek(hut).asOf ?? 0)).toBe(10_000); // told by its reading
  watch(cache, hut);
  cache.invalidate(hut);
  cache.at(hut).patch(() => 7);
  expect(inShort(cache.peek(hut))).toBe("ready 7 stale running");
  expect(loads.map(({ signal }) => signal.aborted)).toEqual([true, false]);
  expect(() => cache.put(hut, undefined, undefined)).toThrow(expect.objectContaining({ code: "invalid-value" }));
  const bad: Freshness = { maxAge: "soon" as any };
  expect(() => cache.put(hut, undefined, 1, bad)).toThrow("maxAge must be");
  expect(cache.peek(hut).value).toBe(7); // a refused call changes nothing
});

test("F2: for one read a value may be no older than that, or so long past its lifetime", async () => {
  const { cache, clock } = stage();
  let loads = 0;
  const hut = source({ name: "hut", maxAge: "1m", staleWhileRevalidate: "10m", load: async () => ++loads });
  const read = (options: object) => cache.read(hut, undefined, options);
  expect(await read({ maxAge: "10s" })).toBe(1);
  await clock.advance("9s");
  expect(await read({ maxAge: "10s" })).toBe(1);
  await clock.advance("1s");
  expect(await read({ maxAge: "10s" })).toBe(2); // waits for the source
  await clock.advance("30s");
  expect(await read({ maxAge: "10s", maxStale: "1m" })).toBe(2); // at once, revalidated in the background
  await clock.advance(0);
  expect(loads).toBe(3);
  await clock.advance("2m");
  expect(await read({ maxStale: "10s" })).toBe(4); // past both
  expect(await read({ maxAge: 0 })).toBe(5);
  cache.invalidate(hut);
  expect(await read({ maxAge: "1h", maxStale: "1h" })).toBe(6);
});

test("F2: a value that must be revalidated is never used past its lifetime, though a read allows it", async () => {
  const { cache, clock } = stage();
  let loads = 0;
  const hut = source({ name: "hut", maxAge: "1m", mustRevalidate: true, load: async () => ++loads });
  await cache.read(hut);
  await clock.advance("61s");
  expect(await cache.read(hut, undefined, { maxStale: "1h" })).toBe(2);
});
