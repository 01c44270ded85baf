import { type RunningOrigin, startOrigin } from "@cista/example-origin";
import { createCache, entriesOf, Failure } from "cista";
import { eventsFrom, graphqlFrom, invalidateAfter, origin, pagesFrom, writeTo } from "cista/http";
import { afterAll, beforeAll, beforeEach, expect, test } from "vitest";
import { stageWithServer } from "./stage.js";

let running: RunningOrigin;
beforeAll(async () => {
  running = await startOrigin();
});
afterAll(() => running.close());
beforeEach(() => running.reset());

const api = () => origin({ base: running.url });
const hutSource = () =>
  api().source<{ id: string }, Record<string, any>>({ name: "hut", url: ({ id }) => `/api/huts/${id}`, retry: false });

test("F7: over HTTP a value has the server's freshness, groups and validator", async () => {
  const { cache, clock, events } = stageWithServer();
  const hut = hutSource();
  const first = await cache.read(hut, { id: "h-07" });
  expect(first.name).toBe("Harebell Hut");
  const [entry] = entriesOf(cache);
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

test("a list in an envelope is unwrapped; the definition's own policy wins over the headers", async () => {
  const { cache, clock } = stageWithServer();
  const huts = api().source<{ region: string }, any[]>({
    name: "huts",
    url: ({ region }) => `/api/huts?region=${region}`,
    unwrap: (body) => body.huts,
    maxAge: "1h",
  });
  expect(await cache.read(huts, { region: "Ashdale" })).toHaveLength(9);
  const [entry] = entriesOf(cache);
  expect(entry?.staleAt).toBe(clock.now() + 3_600_000);
  expect(entry?.expiredAt).toBe(clock.now() + 3_600_000 + 300_000);
});

test("a thousand components on one hut: the origin counts one request", async () => {
  const { cache } = stageWithServer();
  const hut = hutSource();
  const views = Array.from({ length: 1000 }, () => cache.view(hut, { id: "h-07" }));
  for (const view of views) view.subscribe(() => {});
  await cache.read(hut, { id: "h-07" });
  expect(new Set(views.map((view) => view.get())).size).toBe(1);
  expect(views[999]?.get()).toMatchObject({ state: "ready", value: { name: "Harebell Hut" } });
  expect(running.tally.of("/api/huts/h-07").requests).toBe(1);
});

test("404 is missing; the basket is never stored", async () => {
  const { cache, clock } = stageWithServer();
  const hut = hutSource();
  await expect(cache.read(hut, { id: "h-99" })).rejects.toMatchObject({ kind: "missing" });
  expect(cache.peek(hut, { id: "h-99" })).toMatchObject({ state: "missing", fresh: true });
  const basket = api().source<void, Record<string, any>>({ name: "basket", url: "/api/basket" });
  expect((await cache.read(basket)).nights).toHaveLength(2);
  await clock.advance(0);
  expect(cache.peek(basket).state).toBe("empty");
});

/** What a failing read is rejected with. */
async function failureOf(
  fault: object,
  read: () => Promise<unknown> = () => createCache().read(hutSource(), { id: "h-07" }),
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

test("R5: a cut connection is kind network; a page in place of JSON shows its first words", async () => {
  expect(await failureOf({ dropped: 1 })).toMatchObject({ kind: "network", retryable: true });
  expect(await failureOf({ html: true })).toMatchObject({
    kind: "shape",
    message: expect.stringMatching(/text that begins "<!doctype html><title>Greyfell.*\(text\/html/),
  });
});

test("an unwrap that finds another shape fails at the source and shows the members that came", async () => {
  const read = (unwrap: (body: any) => unknown) => () =>
    createCache().read(api().source({ name: "huts", url: "/api/huts", unwrap, retry: false }));
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

test("R5: a body cut short and an unreachable server have failures of their own", async () => {
  expect(await failureOf({ truncated: 1 })).toMatchObject({
    kind: "network",
    retryable: true,
    message: expect.stringMatching(/\/api\/huts\/h-07 broke off after \d+ bytes/),
  });
  const nowhere = origin({ base: "http://127.0.0.1:9" }).source<void, any>({
    name: "far",
    url: "/?token=secret",
    retry: false,
  });
  const unreachable = await failureOf({}, () => createCache().read(nowhere));
  expect(unreachable).toMatchObject({
    kind: "network",
    message: expect.stringContaining("No answer came from http://127.0.0.1:9/"),
  });
  expect(unreachable.message).not.toContain("secret");
  const answering = (status: number) => () => {
    const fetch = async () => new Response(status === 304 ? null : "[]", { status });
    return createCache().read(
      origin({ base: running.url, fetch }).source<void, any>({ name: "odd", url: "/", retry: false }),
    );
  };
  expect(await failureOf({}, answering(304))).toMatchObject({ kind: "http", status: 304 });
  expect(await failureOf({}, answering(206))).toMatchObject({ kind: "http", status: 206 });
});

test("Retry-After as a date counts by the server's own clock", async () => {
  const headers = { date: "Mon, 23 Nov 2026 06:00:00 GMT", "retry-after": "Mon, 23 Nov 2026 06:02:00 GMT" };
  const fetch = async () => new Response("", { status: 503, headers });
  const busy = origin({ base: running.url, fetch }).source<void, any>({ name: "busy", url: "/", retry: false });
  expect(await failureOf({}, () => createCache().read(busy))).toMatchObject({ retryAfter: 120_000 });
});

test("W3: after an unsafe request its URL, Location and groups are invalidated", async () => {
  const { cache } = stageWithServer();
  const other = await startOrigin();
  const hutAt = (name: string, base: string) =>
    origin({ base }).source<{ id: string }, any>({
      name,
      url: ({ id }) => `/api/huts/${id}`,
      groups: (_, found) => (found ? [`region-${found.region}`] : []),
    });
  const [here, there] = [hutAt("here", running.url), hutAt("there", other.url)];
  const logbook = pagesFrom<{ id: string }, any>(api(), {
    name: "logbook",
    url: ({ id }) => `/api/huts/${id}/logbook`,
  });
  await Promise.all([
    cache.read(here, { id: "h-07" }),
    cache.read(here, { id: "h-08" }),
    cache.read(there, { id: "h-07" }),
  ]);
  await cache.read(logbook, { id: "h-07" });
  const stale = () =>
    [...entriesOf(cache)].filter(({ reading }) => (reading as any).fresh === false).map(({ key }) => key);
  const send = async (method: string, path: string, body?: object) => {
    const response = await fetch(`${running.url}${path}`, { method, ...(body ? { body: JSON.stringify(body) } : {}) });
    return invalidateAfter(cache, method, response);
  };

  expect(await send("POST", "/api/huts/h-07/logbook", { text: "" })).toBe(0); // refused
  expect(await send("GET", "/api/huts/h-07")).toBe(0); // safe
  expect(await send("POST", "/api/huts/h-07/logbook", { text: "Back again." })).toBe(1);
  expect(stale()).toEqual(['logbook {"id":"h-07"}']);
  expect(await send("DELETE", "/api/basket/2026-11-28")).toBe(1); // names the group "hut-h-07"
  expect(stale()).toEqual(['here {"id":"h-07"}', 'logbook {"id":"h-07"}']);
  const elsewhere = new Response(null, { status: 201, headers: { location: `${other.url}/api/huts/h-07` } });
  expect(invalidateAfter(cache, "POST", elsewhere, `${running.url}/api/huts`)).toBe(0);
  expect(invalidateAfter(cache, "PUT", new Response(), `${running.url}/api/huts/h-08#top`)).toBe(1);

  // An unchanged answer names its groups anew; those of the definition stay.
  await cache.read(here, { id: "h-07" });
  expect([...entriesOf(cache)][0]?.groups).toEqual([
    "huts",
    "hut-h-07",
    "region-Lower Fells",
    `${running.url}/api/huts/h-07`,
  ]);
  await other.close();
});

test("the same body without a 304: an unchanged entity tag spares the parse, weak or strong", async () => {
  let parsed = 0;
  const tags = ['W/"a"', '"a"', '"b"'];
  const fetch = async () => new Response("[1]", { headers: { etag: tags.shift() ?? "" } });
  const list = origin({ base: running.url, fetch }).source<void, any>({
    name: "list",
    url: "/",
    parse: async (response) => {
      parsed++;
      return response.json();
    },
  });
  const { cache } = stageWithServer();
  for (let turn = 0; turn < 3; turn++) await cache.read(list, undefined, { cache: "no-cache" });
  expect(parsed).toBe(2);
});

test("the signal reaches fetch: the origin sees the connection close", async () => {
  running.faults.set({ path: "/", latency: 60_000 });
  const { cache, clock } = stageWithServer();
  const leave = cache.view(hutSource(), { id: "h-07" }).subscribe(() => {});
  const count = running.tally.of("/api/huts/h-07");
  await until(() => count.requests === 1);
  leave();
  await clock.advance(0);
  await until(() => count.abandoned === 1);
});

test("a relative URL without a base, outside a page, is an error with the remedy", async () => {
  const thrown = await createCache()
    .read(origin().source({ name: "huts", url: "/api/huts", retry: false }))
    .catch((error: Error) => error);
  expect((thrown as Error).message).toContain("Give origin({ base }) the server's address");
  const sourceOf = (api: any, definition: any) => api.source(definition);
  for (const make of [sourceOf, pagesFrom, eventsFrom, graphqlFrom, writeTo] as any[]) {
    expect(() => make(origin(), { name: "none", document: "{ a }" })).toThrow('"none" needs a url');
    if (make !== sourceOf) expect(() => make({}, { name: "none" })).toThrow("An origin was expected");
  }
  expect(() => origin({ base: "huts" })).toThrow(expect.objectContaining({ code: "invalid-base-url" }));
});

async function until(holds: () => boolean): Promise<void> {
  while (!holds()) await new Promise((resolve) => setTimeout(resolve, 5));
}

test("the origin makes answers late, out of order and now and then, and books each bunk once", async () => {
  running.faults.set({ path: "/api", outOfOrder: true });
  const order: string[] = [];
  const ask = (path: string) => fetch(`${running.url}${path}`).then(() => order.push(path));
  await Promise.all([
    ask("/api/huts/h-01"),
    until(() => running.tally.of("/api/huts/h-01").requests === 1).then(() => ask("/api/huts/h-02")),
  ]);
  expect(order).toEqual(["/api/huts/h-02", "/api/huts/h-01"]);
  running.reset();

  const book = async (key: string, hut: string, night: string) => {
    const headers = { "idempotency-key": key, "content-type": "application/json" };
    const body = JSON.stringify({ hut, night });
    const response = await fetch(`${running.url}/api/basket`, { method: "POST", headers, body });
    return [response.status, ((await response.json()) as { title?: string }).title];
  };
  const night = [...Array(28).keys()].map((day) => `2026-12-${String(day + 1).padStart(2, "0")}`);
  const hut = running.world.huts.get("h-07") as any;
  const free = night.find((each) => running.world.bunks(hut, each).free > 0) as string;
  const full = night.find((each) => running.world.bunks(hut, each).free === 0);
  expect(await book('"k-1"', "h-07", free)).toEqual([201, undefined]);
  expect(await book('"k-1"', "h-07", free)).toEqual([201, undefined]); // sent again: one booking
  expect(running.world.basket).toHaveLength(3);
  expect(await book('"k-1"', "h-08", free)).toEqual([422, "Another request"]);
  expect(await book('"k-2"', "h-08", free)).toEqual([409, "Already booked"]);
  if (full) expect(await book('"k-3"', "h-07", full)).toEqual([409, "The hut is full"]);
  expect(await book('"k-4"', "h-99", free)).toEqual([422, "Not a booking"]);
  expect((await fetch(`${running.url}/api/huts/h-37`)).status).toBe(410);
});

test("the origin tells the error of a bad request", async () => {
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
