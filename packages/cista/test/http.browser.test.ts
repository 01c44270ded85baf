import { createCache } from "cista";
import { origin } from "cista/http";
import { afterEach, expect, test, vi } from "vitest";

afterEach(() => document.head.querySelector("base")?.remove());

/** A fetch that answers at once and notes how it was asked. */
function noted(headers: Record<string, string> = {}) {
  return vi.fn(async (_url: URL, _init: RequestInit) => new Response('{"water":90}', { headers }));
}

test("S5: at its own origin Cista is the page's cache, elsewhere the browser is", async () => {
  const fetch = noted({ etag: '"a"', "cache-control": "max-age=60" });
  const cache = createCache();
  for (const base of [undefined, "https://huts.example/"]) {
    const api = origin({ fetch: fetch as never, ...(base ? { base } : {}) });
    const hut = api.source<number, unknown>({ name: base ? "far" : "near", url: (id) => `/api/huts/${id}` });
    await cache.read(hut, 1);
    await cache.read(hut, 1, { cache: "no-cache" });
  }
  const asked = fetch.mock.calls.map(([url, init]) => [
    url.href,
    init.cache,
    new Headers(init.headers).get("if-none-match"),
  ]);
  expect(asked).toEqual([
    [`${location.origin}/api/huts/1`, "no-store", null],
    [`${location.origin}/api/huts/1`, "no-store", '"a"'],
    ["https://huts.example/api/huts/1", "default", null],
    ["https://huts.example/api/huts/1", "no-cache", null],
  ]);
  cache.dispose();
});

test("S5: where the page's base address is of another origin, URLs go there", async () => {
  document.head.insertAdjacentHTML("beforeend", '<base href="https://huts.example/board/">');
  const fetch = noted();
  const cache = createCache();
  await cache.read(origin({ fetch: fetch as never }).source<void, unknown>({ name: "hut", url: "hut" }));
  expect(fetch.mock.calls.map(([url, init]) => [url.href, init.cache])).toEqual([
    ["https://huts.example/board/hut", "default"],
  ]);
  cache.dispose();
});
