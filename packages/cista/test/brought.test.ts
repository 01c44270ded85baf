import { composite, entriesOf, restoreSnapshot, source, takeSnapshot } from "cista";
import { openPage } from "cista/server";
import { describe, expect, test } from "vitest";
import { expectWithPage } from "../src/core/doors/page.js";
import { restoreWith } from "../src/core/doors/sharing.js";
import { json, server } from "./hostile-server.js";
import { heldSource, inShort, stage, watch } from "./stage.js";

// Values that came from elsewhere, out of a snapshot or with a page: what is shown of them, and when they are requested.

test("H10: the value of a stream is there at once after a restore, and an attach opens the stream again", async () => {
  const from = stage();
  const gauge = source({
    name: "gauge",
    maxAge: "1h",
    params: false,
    load: async function* (_, { signal }) {
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

test("H11: a value that is invalidated while it is to come with the page is requested when it has come", async () => {
  const hut = source<void, string>({ name: "hut", maxAge: "1h", load: async () => "asked for" });
  const from = stage();
  from.cache.put(hut, undefined, "of the page");
  const { cache, clock, kinds } = stage();
  expectWithPage(cache, ["hut"]);
  const { view } = watch(cache, hut);
  cache.invalidate(hut);
  restoreWith(cache, takeSnapshot(from.cache), { isLive: true });
  expect(view.get()).toMatchObject({ value: "of the page", fresh: false, request: "running" });
  await clock.advance(0);
  expect(view.get()).toMatchObject({ value: "asked for", fresh: true });
  expect(kinds()).toContain("request:invalidated");
});

test("H10: a composite that was restored is made of its dependencies, also where their source is used later", async () => {
  const water: Record<number, number> = { 1: 90 };
  const hut = () => source({ name: "hut", maxAge: "1h", load: async (id: number) => water[id] });
  const route = (part: ReturnType<typeof hut>) =>
    composite({
      name: "route",
      maxAge: "1h",
      params: false,
      load: async (_, { read }) => `${await read(part, 1)} litres`,
    });
  const from = stage();
  const first = hut();
  await from.cache.read(route(first));
  const snapshot = JSON.parse(JSON.stringify(takeSnapshot(from.cache)));
  for (const used of ["dependency first", "composite first", "both before the restore"]) {
    water[1] = 90;
    const { cache, clock } = stage();
    const part = hut();
    const whole = route(part);
    if (used === "both before the restore") {
      cache.peek(part, 1);
      cache.peek(whole);
    }
    restoreSnapshot(cache, snapshot); // the composite stands in it before its dependency
    if (used === "dependency first") cache.peek(part, 1);
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

test("H10: a part without params is the same part after a restore from JSON", async () => {
  let water = 90;
  const hut = source({ name: "hut", maxAge: "1h", load: async () => water });
  const route = composite({
    name: "route",
    maxAge: "1h",
    params: false,
    load: async (_, { read }) => `${await read(hut)} litres`,
  });
  const from = stage();
  await from.cache.read(route);
  const { cache, clock } = stage({ snapshot: JSON.parse(JSON.stringify(takeSnapshot(from.cache))) });
  const { view } = watch(cache, route);
  await cache.read(hut);
  water = 40;
  cache.invalidate(hut);
  for (let turn = 0; turn < 3; turn++) await clock.advance(0);
  expect(view.get().value).toBe("40 litres");
  expect([...entriesOf(cache)].map(({ key }) => key).sort()).toEqual(["hut", "route"]);
});

test("H1: a composite of a page is shown before the source of its private dependency was used", async () => {
  const { api } = server(() => json("Ada", { "cache-control": "private, max-age=60" }), {
    headers: () => ({ authorization: "a" }),
  });
  const me = api.source<void, string>({ name: "me", url: "/me" });
  const greeting = composite({
    name: "greeting",
    maxAge: "1h",
    params: false,
    load: async (_, { read }) => `Hello ${await read(me)}`,
  });
  const from = stage();
  const page = openPage(from.cache);
  await page.show(greeting);
  const snapshot = JSON.parse(page.json());
  page.close();
  const { cache } = stage();
  restoreWith(cache, snapshot, { isLive: true });
  expect(inShort(watch(cache, greeting).view.get())).toContain("Hello Ada");
});

test("H2: a value that came with the page is not asked for at an attach; an invalidated one is", async () => {
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

const blockOf = (html: string) => JSON.parse(/<script[^>]*>(.*)<\/script>/.exec(html)?.[1] as string);

describe("H11: values that are still to come with the page", () => {
  const program = async () => {
    const onServer = stage();
    const { source: slow, loads } = heldSource("slow", { maxAge: "1h" });
    const page = openPage(onServer.cache);
    void page.show(slow, 1);
    const first = blockOf(page.html());
    loads[0]?.answer("from the server");
    await onServer.clock.advance(0);
    const second = blockOf(page.html());
    page.close();
    const browser = stage();
    const own = heldSource("slow", { maxAge: "1h" });
    return { first, second, own, ...browser };
  };

  test("the page says which: they are not asked for before the page is complete", async () => {
    const { first, second, own, cache, clock } = await program();
    expect([first.coming, second.coming]).toEqual([["slow 1"], undefined]);
    expectWithPage(cache, first.coming);
    const { view } = watch(cache, own.source, 1);
    const read = cache.read(own.source, 1);
    await clock.advance("1m");
    expect([inShort(view.get()), own.loads.length]).toEqual(["loading waiting", 0]);
    restoreWith(cache, second, { isLive: true });
    expect([inShort(view.get()), own.loads.length, await read]).toEqual([
      'ready "from the server"',
      0,
      "from the server",
    ]);
  });

  test("a value that has not come when the page is complete is asked for", async () => {
    const { first, own, cache, clock } = await program();
    expectWithPage(cache, first.coming);
    const { view } = watch(cache, own.source, 1);
    expectWithPage(cache, undefined);
    await clock.advance(0);
    own.loads[0]?.answer("asked");
    await clock.advance(0);
    expect(view.get().value).toBe("asked");
  });
});

test("S1: of a held value and a restored one the younger counts; an invalidated one stays invalidated", async () => {
  const hut = source({ name: "hut", maxAge: "1h", load: async (id: number) => `loaded ${id}` });
  const server = stage();
  server.cache.put(hut, 1, "old");
  const old = takeSnapshot(server.cache);
  await server.clock.advance("10s");
  server.cache.put(hut, 1, "new");
  const young = takeSnapshot(server.cache);
  const { cache, clock } = stage({ now: server.clock.now(), snapshot: young });
  restoreSnapshot(cache, old);
  expect(cache.peek(hut, 1).value).toBe("new");
  const other = stage({ now: server.clock.now(), snapshot: old });
  other.cache.peek(hut, 1);
  const { view } = watch(other.cache, hut, 1);
  restoreSnapshot(other.cache, young);
  expect(view.get().value).toBe("new");
  cache.invalidate(hut);
  await clock.advance("1s");
  server.cache.put(hut, 1, "newest");
  restoreSnapshot(cache, { ...takeSnapshot(server.cache), takenAt: clock.now() });
  expect(cache.peek(hut, 1)).toMatchObject({ value: "newest", fresh: false });
});
