import { createCache, Failure, restoreSnapshot, source, takeSnapshot } from "cista";
import { origin } from "cista/http";
import { openPage } from "cista/server";
import { expect, test, vi } from "vitest";
import { renderingOf, restoreWith } from "../src/core/internal.js";
import { heldSource, stage, watch } from "./stage.js";

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
  expect(await read({ maxAge: "10s", maxStale: "1m" })).toBe(2); // at once, checked behind
  await clock.advance(0);
  expect(loads).toBe(3);
  await clock.advance("2m");
  expect(await read({ maxStale: "10s" })).toBe(4); // past both
  expect(await read({ maxAge: 0 })).toBe(5);
  cache.invalidate(hut);
  expect(await read({ maxAge: "1h", maxStale: "1h" })).toBe(6);
});

test("F2: what must be revalidated is never used past its lifetime, whatever a read allows", async () => {
  const { cache, clock } = stage();
  let loads = 0;
  const hut = source({ name: "hut", maxAge: "1m", mustRevalidate: true, load: async () => ++loads });
  await cache.read(hut);
  await clock.advance("61s");
  expect(await cache.read(hut, undefined, { maxStale: "1h" })).toBe(2);
});

test("H10: what a stream brought is there at once after a restore, and is opened again by who attaches", async () => {
  const from = stage();
  const gauge = source({
    name: "gauge",
    maxAge: "1h",
    load: async function* (_: void, { signal }) {
      yield 90;
      await new Promise((resolve) => signal.addEventListener("abort", resolve));
    },
  });
  watch(from.cache, gauge);
  await from.clock.advance(0);
  const { cache, clock, kinds } = stage({ snapshot: takeSnapshot(from.cache) });
  const { view } = watch(cache, gauge);
  expect(view.get()).toMatchObject({ state: "ready", value: 90, request: "running" });
  await clock.advance(0);
  expect(kinds()).toContain("request:attach");
  from.cache.dispose();
  cache.dispose();
});

test("H10: a whole that was restored is made of its parts, also where their source is used later", async () => {
  const water: Record<number, number> = { 1: 90 };
  const hut = () => source({ name: "hut", maxAge: "1h", load: async (id: number) => water[id] });
  const route = (part: ReturnType<typeof hut>) =>
    source({ name: "route", maxAge: "1h", load: async (_: void, { read }) => `${await read(part, 1)} litres` });
  const from = stage();
  const first = hut();
  await from.cache.read(route(first));
  const snapshot = JSON.parse(JSON.stringify(takeSnapshot(from.cache)));
  for (const isPartFirst of [true, false]) {
    water[1] = 90;
    const { cache, clock } = stage({ snapshot });
    const part = hut();
    const whole = route(part);
    if (isPartFirst) cache.peek(part, 1);
    const { view } = watch(cache, whole);
    cache.peek(part, 1);
    expect(view.get()).toMatchObject({ value: "90 litres", fresh: true, request: "none" });
    water[1] = 40;
    cache.invalidate(part);
    for (let turn = 0; turn < 3; turn++) await clock.advance(0);
    expect(view.get().value).toBe("40 litres");
    cache.dispose();
  }
});

test("H2: what came with the page is not asked for by who attaches; what is invalidated is", async () => {
  const from = stage();
  const define = () => heldSource("hut", { maxAge: 0, mustRevalidate: true });
  from.cache.put(define().source, 1, "Harebell");
  const snapshot = takeSnapshot(from.cache);
  const { cache, clock } = stage();
  restoreWith(cache, snapshot, { isLive: true });
  const { source: hut, loads } = define();
  const { view, leave } = watch(cache, hut, 1);
  expect([view.get().state, loads.length]).toEqual(["ready", 0]);
  cache.invalidate(hut);
  expect(loads).toHaveLength(1);
  leave();
  await clock.advance(0);
  const later = stage();
  restoreSnapshot(later.cache, snapshot);
  const other = define();
  watch(later.cache, other.source, 1);
  expect(other.loads).toHaveLength(1); // not with a page
  const again = stage();
  restoreWith(again.cache, snapshot, { isLive: true });
  const third = define();
  again.cache.invalidate(third.source);
  watch(again.cache, third.source, 1);
  expect(third.loads).toHaveLength(1);
});

test("H8: no wait is longer than the page's time, and none outlives it", async () => {
  const { cache, clock } = stage();
  const { source: hut, loads } = heldSource("hut");
  const page = openPage(cache, { timeout: "2s" });
  const late = page.show(hut, 1);
  await clock.advance("2s");
  expect(await late).toMatchObject({ state: "loading" });
  expect(page.left.get("hut 1")).toMatchObject({ kind: "timeout" });
  expect(await page.show(hut, 2)).toMatchObject({ state: "loading" });
  page.close();
  expect(loads[0]?.signal.aborted).toBe(true);
  expect(() => cache.peek(hut, 1)).toThrow("disposed");
  expect(clock.pendingTimers).toBe(0);
});

test("H7: a view that starts nothing is empty on a page; a page tells the freshness of what it shows", async () => {
  const fetch = async () => new Response('"Harebell"', { headers: { "cache-control": "max-age=60", age: "20" } });
  const hut = origin({ base: "https://huts.example", fetch: fetch as never }).source({ name: "hut", url: "/h" });
  const { cache } = stage();
  const page = openPage(cache, { reusable: true });
  expect(page.freshness()).toEqual({ maxAge: Number.POSITIVE_INFINITY, noStore: false });
  await page.show(hut);
  expect(page.freshness()).toEqual({ maxAge: 40_000, noStore: false });
  expect(page.html()).not.toContain('"live"');
  const { view } = watch(cache, hut, undefined, { when: false });
  const shown = renderingOf(cache)?.of(view, hut, false);
  expect(shown).toMatchObject({ state: "empty", key: "hut" });
  page.close();
});

test("H4: a loader shows a value before the components are rendered, and never rejects", async () => {
  const hut = source({
    name: "hut",
    retry: false,
    load: async (id: number) => {
      if (id === 2) throw new Failure("load", "The warden is away.");
      return "Harebell";
    },
  });
  const page = openPage(createCache());
  expect(await page.show(hut, 1)).toMatchObject({ state: "ready", value: "Harebell" });
  expect(await page.show(hut, 2)).toMatchObject({ state: "loading" });
  expect(page.html()).toContain('"value":"Harebell"');
  expect(page.html()).toBe("");
  expect(page.freshness()).toEqual({ maxAge: 0, noStore: false });
  page.close();
  page.close();
});

test("two users at once, a thousand requests: the values of one are never in the other's page", async () => {
  const basket = source({
    name: "basket",
    load: async (_: void, { context }) => {
      await new Promise(setImmediate); // the other's request comes in between
      return `nights of ${context}`;
    },
  });
  const walkers = ["Wren", "Ash"];
  const render = async (walker: string) => {
    const page = openPage(createCache({ context: walker }));
    await page.show(basket);
    const html = page.html();
    page.close();
    return walkers.filter((each) => html.includes(`nights of ${each}`));
  };
  const visits = Array.from({ length: 1000 }, (_, number) => walkers[number % 2] as string);
  expect(await Promise.all(visits.map(render))).toEqual(visits.map((walker) => [walker]));
});

test("one cache for two pages at once is warned of in development", () => {
  const warn = vi.spyOn(console, "warn").mockImplementation(() => {});
  const cache = createCache();
  const first = openPage(cache);
  expect(warn).not.toHaveBeenCalled();
  openPage(cache);
  expect(warn.mock.calls.map(String)).toEqual([expect.stringContaining("Make a cache for each request")]);
  first.close();
  warn.mockRestore();
});

test("H3: what a page shows early goes on ageing until it is sent", async () => {
  const { cache, clock } = stage();
  const hut = source({ name: "hut", maxAge: "10s", load: async (id: number) => id });
  const page = openPage(cache);
  await page.show(hut, 1);
  await clock.advance("3s");
  await page.show(hut, 2);
  expect(page.freshness().maxAge).toBe(7000);
  const [, text = ""] = /<script[^>]*>(.*)<\/script>/.exec(page.html()) ?? [];
  const { takenAt, entries } = JSON.parse(text);
  expect(entries).toMatchObject([{ age: 3000, shownAt: takenAt - 3000 }, { age: 0 }]);
  page.close();
});
