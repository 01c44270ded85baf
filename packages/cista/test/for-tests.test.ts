import { source } from "cista";
import { origin, writeTo } from "cista/http";
import { cacheForTest, standInServer } from "cista/rehearsal";
import { expect, onTestFinished, test, vi } from "vitest";

// What a program's own tests use: a cache for a test, and a server that answers and counts.

const hutServer = () => {
  const server = standInServer({
    "/api/huts/:id": ({ params }) => ({ id: params.id, name: "Harebell Hut" }),
    "/api/huts": [{ id: "h-07" }],
    "PUT /api/huts/:id/star": async ({ params, request }) => ({ id: params.id, ...(await request.json()) }),
    "/api/away": () => {
      throw new TypeError("fetch failed");
    },
    "/api/slow": () => new Promise(() => {}),
  });
  const api = origin({ base: "https://huts.example", fetch: server.fetch });
  return { server, api };
};

test("a cache for a test stands still, goes on when it is told to, and ends with the test", async () => {
  const ends: (() => void)[] = [];
  const { cache, clock, environment } = cacheForTest((end) => ends.push(end), { retry: false });
  const hut = source({ name: "hut", maxAge: "1m", load: async () => "Harebell Hut" });
  await cache.read(hut);
  await clock.advance("59s");
  expect(cache.peek(hut).fresh).toBe(true);
  await clock.advance("2s");
  expect(cache.peek(hut).fresh).toBe(false);
  environment.set({ online: false });
  for (const end of ends) end();
  await expect(cache.read(hut)).rejects.toMatchObject({ code: "cache-disposed" });
  expect(clock.pendingTimers).toBe(0);
});

test("a stand-in server answers by routes, and counts its requests", async () => {
  const { server, api } = hutServer();
  const { cache } = cacheForTest(onTestFinished, { retry: false });
  const hut = api.source<{ id: string }, { id: string; name: string }>({
    name: "hut",
    url: ({ id }) => `/api/huts/${id}`,
  });
  const huts = api.source<void, unknown[]>({ name: "huts", url: "/api/huts?region=north" });
  const star = writeTo<{ id: string }, { id: string; starred: boolean }>(api, {
    name: "star",
    method: "PUT",
    url: ({ id }) => `/api/huts/${id}/star`,
    body: () => ({ starred: true }),
  });
  const both = await Promise.all([cache.read(hut, { id: "a b" }), cache.read(hut, { id: "a b" })]);
  expect(both[0]).toEqual({ id: "a b", name: "Harebell Hut" });
  expect(await cache.read(huts)).toEqual([{ id: "h-07" }]);
  expect(await cache.run(star, { id: "h-07" })).toEqual({ id: "h-07", starred: true });
  expect(server.asked).toEqual(["GET /api/huts/a%20b", "GET /api/huts?region=north", "PUT /api/huts/h-07/star"]);
  expect(await server.requests[2]?.json()).toEqual({ starred: true });
  server.asked.length = 0;
  server.answer("/api/huts", new Response(null, { status: 503 }));
  const { failure } = await cache.view(huts).revalidate();
  expect([failure?.status, server.asked.length]).toEqual([503, 1]);
});

test("a stand-in server: a route that throws is no network, one that is not there says which there are, an aborted one ends", async () => {
  const { api } = hutServer();
  const { cache } = cacheForTest(onTestFinished, { retry: false });
  const read = (url: string) => cache.read(api.source<void, unknown>({ name: url, url }));
  await expect(read("/api/away")).rejects.toMatchObject({ kind: "network" });
  await expect(read("/api/none")).rejects.toMatchObject({ kind: "missing" });
  const stop = new AbortController();
  const slow = hutServer().server.fetch("/api/slow", { signal: stop.signal });
  stop.abort("enough");
  await expect(slow).rejects.toBe("enough");
  const answer = await hutServer().server.fetch("/api/none");
  expect((await answer.json()).detail).toContain("Its routes: /api/huts/:id, /api/huts, PUT /api/huts/:id/star");
});

test("fake timers alone are enough: lifetimes, pauses and polling go by them", async () => {
  vi.useFakeTimers();
  onTestFinished(() => void vi.useRealTimers());
  const { createCache } = await import("cista");
  const cache = createCache();
  onTestFinished(() => cache.dispose());
  const load = vi.fn(async () => load.mock.calls.length);
  const hut = source({ name: "hut", maxAge: "1m", revalidateEvery: "10s", load });
  const view = cache.view(hut);
  onTestFinished(view.subscribe(() => {}));
  await vi.advanceTimersByTimeAsync(25_000);
  expect([view.get().value, load.mock.calls.length]).toEqual([3, 3]);
});
