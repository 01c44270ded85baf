import { type RunningOrigin, startOrigin } from "@cista/example-origin";
import { createCache, Failure } from "cista";
import { origin } from "cista/http";
import { afterAll, beforeAll, beforeEach, expect, test } from "vitest";
import { stage } from "./stage.js";

let running: RunningOrigin;
beforeAll(async () => {
  running = await startOrigin();
});
afterAll(() => running.close());
beforeEach(() => running.reset());

const api = () => origin({ base: running.url });
const hutSource = () =>
  api().source<{ id: string }, any>({ name: "hut", url: ({ id }) => `/api/huts/${id}`, retry: false });

test("over real HTTP: a value with the server's freshness, groups and validator; unchanged is a 304 and the same object", async () => {
  const { cache, clock, events } = stage();
  const hut = hutSource();
  const first = await cache.read(hut, { id: "h-07" });
  expect(first.name).toBe("Harebell Hut");
  const [entry] = cache.entries();
  expect(entry).toMatchObject({
    key: 'hut {"id":"h-07"}',
    groups: ["huts", "hut-h-07", `${running.url}/api/huts/h-07`],
    staleAt: clock.now() + 60_000,
  });
  clock.jump(61_000);
  expect(await cache.read(hut, { id: "h-07" }, { cache: "no-cache" })).toBe(first);
  expect(events.at(-1)).toMatchObject({ kind: "unchanged", cacheStatus: "Cista; fwd=stale; fwd-status=304; stored" });
  expect(running.tally.of("/api/huts/h-07")).toMatchObject({ requests: 2, notModified: 1 });
  Object.assign(running.world.huts.get("h-07") ?? {}, { water: 1 });
  const changed = await cache.read(hut, { id: "h-07" }, { cache: "no-cache" });
  expect(changed).toEqual({ ...first, water: 1 });
  expect(changed.openMonths).toBe(first.openMonths);
});

test("a list in an envelope is unwrapped; what the definition says itself wins over the headers", async () => {
  const { cache, clock } = stage();
  const huts = api().source<{ region: string }, any[]>({
    name: "huts",
    url: ({ region }) => `/api/huts?region=${region}`,
    unwrap: (body) => body.huts,
    maxAge: "1h",
  });
  expect(await cache.read(huts, { region: "Ashdale" })).toHaveLength(9);
  const [entry] = cache.entries();
  expect(entry?.staleAt).toBe(clock.now() + 3_600_000);
  expect(entry?.expiredAt).toBe(clock.now() + 3_600_000 + 300_000);
});

test("a thousand components on one hut: the origin counts one request", async () => {
  const { cache } = stage();
  const hut = hutSource();
  const views = Array.from({ length: 1000 }, () => cache.view(hut, { id: "h-07" }));
  for (const view of views) view.subscribe(() => {});
  await cache.read(hut, { id: "h-07" });
  expect(new Set(views.map((view) => view.get())).size).toBe(1);
  expect(views[999]?.get()).toMatchObject({ state: "ready", value: { name: "Harebell Hut" } });
  expect(running.tally.of("/api/huts/h-07").requests).toBe(1);
});

test("404 is missing; the basket is never stored", async () => {
  const { cache, clock } = stage();
  const hut = hutSource();
  await expect(cache.read(hut, { id: "h-99" })).rejects.toMatchObject({ kind: "missing" });
  expect(cache.peek(hut, { id: "h-99" })).toMatchObject({ state: "missing", fresh: true });
  const basket = api().source<void, any>({ name: "basket", url: "/api/basket" });
  expect((await cache.read(basket)).nights).toHaveLength(2);
  await clock.advance(0);
  expect(cache.peek(basket).state).toBe("empty");
});

/** What a failing read is rejected with. */
async function failureOf(
  fault: object,
  read = () => createCache().read(hutSource(), { id: "h-07" }),
): Promise<Failure> {
  running.faults.set({ path: "/", ...fault });
  const thrown = await read().catch((failure: unknown) => failure);
  expect(thrown).toBeInstanceOf(Failure);
  return thrown as Failure;
}

test("a status that is an error: kind http, with the problem that came and how long to wait", async () => {
  expect(await failureOf({ status: 503, retryAfter: 7 })).toMatchObject({
    kind: "http",
    status: 503,
    retryable: true,
    retryAfter: 7000,
    problem: { title: "The origin stumbled", status: 503 },
    message: expect.stringMatching(/\/api\/huts\/h-07 answered 503 \(The origin stumbled\): A fault was asked for on/),
  });
  expect(await failureOf({ status: 403 })).toMatchObject({ kind: "http", retryable: false });
});

test("a cut connection is kind network; a page where JSON was expected shows its type and first words", async () => {
  expect(await failureOf({ dropped: 1 })).toMatchObject({ kind: "network", retryable: true });
  expect(await failureOf({ html: true })).toMatchObject({
    kind: "shape",
    message: expect.stringMatching(/text that begins "<!doctype html><title>Greyfell.*\(text\/html/),
  });
});

test("an unwrap that finds another shape fails at the source and shows the members that came", async () => {
  const read = (unwrap: (body: any) => unknown) => () =>
    createCache().read(api().source<void, any>({ name: "huts", url: "/api/huts", unwrap, retry: false }));
  const message = expect.stringContaining("the body is an object with the members count, huts");
  running.reset();
  expect(
    await failureOf(
      { latency: 0 },
      read((body) => body.items),
    ),
  ).toMatchObject({ kind: "shape", message });
  expect(
    await failureOf(
      { latency: 0 },
      read((body) => body.data.huts),
    ),
  ).toMatchObject({ kind: "shape", message });
});

test("a body longer than maxBody is not read to its end", async () => {
  const tiny = origin({ base: running.url, maxBody: 20 }).source<void, any>({
    name: "huts",
    url: "/api/huts",
    retry: false,
  });
  expect(await failureOf({ latency: 0 }, () => createCache().read(tiny))).toMatchObject({
    kind: "http",
    message: expect.stringContaining("longer than 20 bytes"),
  });
});

test("the signal reaches fetch: the origin sees the connection close", async () => {
  running.faults.set({ path: "/", latency: 60_000 });
  const { cache, clock } = stage();
  const leave = cache.view(hutSource(), { id: "h-07" }).subscribe(() => {});
  const count = running.tally.of("/api/huts/h-07");
  await until(() => count.requests === 1);
  leave();
  await clock.advance(0);
  await until(() => count.abandoned === 1);
});

test("a relative URL without a base, outside a page, says what to give", async () => {
  const thrown = await createCache()
    .read(origin().source({ name: "huts", url: "/api/huts", retry: false }))
    .catch((error: Error) => error);
  expect((thrown as Error).message).toContain("Give origin({ base }) the server's address");
  expect(() => origin({ base: "huts" })).toThrow(expect.objectContaining({ code: "base" }));
});

async function until(holds: () => boolean): Promise<void> {
  while (!holds()) await new Promise((resolve) => setTimeout(resolve, 5));
}

test("the origin says what is wrong with what it is asked", async () => {
  const ask = async (path: string, init?: RequestInit) => {
    const response = await fetch(`${running.url}${path}`, init);
    return [response.status, ((await response.json()) as { title: string }).title];
  };
  expect(await ask("/api/nowhere")).toEqual([404, "Nothing here"]);
  expect(await ask("/api/huts/h-01/bunks?night=tonight")).toEqual([400, "No such night"]);
  expect(await ask("/origin/faults", { method: "PUT", body: "nonsense" })).toEqual([400, "Not a fault"]);
  expect(await ask("/origin/huts/h-01", { method: "PATCH", body: "nonsense" })).toEqual([400, "Not a change"]);
  expect(await ask("/origin/huts/h-99", { method: "PATCH", body: "{}" })).toEqual([404, "No such hut"]);
});
