import { createCache, entriesOf, takeSnapshot } from "cista";
import { appendPage, pagesFrom, parseCacheControl, parseLink, parseStringList, writeTo } from "cista/http";
import { describe, expect, test, vi } from "vitest";
import { base, hut, id, json, server } from "./hostile-server.js";
import { stage } from "./stage.js";

// What reaches which origin, whatever a server or a link says.

describe("header fields are read in one pass", () => {
  const long = 1 << 17;
  test.each([
    ["a link with bare parameters and an open quote", () => parseLink("next", `<a>${";x ".repeat(long / 3)}"`, base)],
    ["nothing but brackets", () => parseLink("next", "<".repeat(long), base)],
    ["escaped quotes that are never closed", () => parseCacheControl(`"${'\\"'.repeat(long / 2)}`)],
    ["quotes that open again and again", () => parseCacheControl('a="'.repeat(long / 3))],
    ["a list of strings that breaks at its end", () => parseStringList(`${'"a", '.repeat(long / 5)}"`)],
  ])("%s", (_, read) => {
    const started = performance.now();
    read();
    expect((performance.now() - started) / (long / 1024)).toBeLessThan(10); // milliseconds a kilobyte: it hung for ever
  });

  test("30,000 labels, and then 30,000 others, of which a thousand each count", async () => {
    const labels = (from: number) => Array.from({ length: 30_000 }, (_, at) => `"g${from + at}"`).join(", ");
    let count = 0;
    const { api } = server(() => json(1, { "cache-groups": labels(30_000 * count++), "cache-control": "max-age=0" }));
    const { cache } = stage();
    const labelled = api.source<any, number>(hut);
    await cache.read(labelled, id);
    await cache.read(labelled, id, { cache: "reload" });
    expect([...entriesOf(cache)][0]?.groups).toHaveLength(1000); // its URL's among them
  });
});

describe("which headers go to which origin", () => {
  test("a url that leads to another origin gets none of the program's headers, unless it is named", async () => {
    const options = { headers: { authorization: "Bearer ada", "x-key": "k" }, credentials: "include" };
    const link = { name: "link", url: (url: string) => url, headers: { "x-own": "1" }, retry: false } as const;
    const { cache } = stage();
    const plain = server(() => json(1), options);
    await cache.read(plain.api.source<string, number>(link), "https://evil.example/a");
    expect([...(plain.seen[0]?.headers.keys() ?? [])]).toEqual([]);
    expect(plain.seen[0]?.init.credentials).toBe("omit");
    const named = server(() => json(1), { ...options, trust: ["https://cdn.example"] });
    await stage().cache.read(named.api.source<string, number>(link), "https://cdn.example/a");
    expect([...(named.seen[0]?.headers.keys() ?? [])].sort()).toEqual(["authorization", "x-key", "x-own"]);
    const write = writeTo<string, void>(plain.api, { name: "send", method: "POST", url: (url) => url });
    await expect(cache.run(write, "https://evil.example/a")).rejects.toMatchObject({ kind: "load" });
    expect(plain.seen).toHaveLength(1);
  });

  test.each(["https://evil.example/steal", "//evil.example/steal"])(
    "a stored list's next, %s, is not followed",
    async (next) => {
      const { api, seen } = server(() => json([]), { headers: { authorization: "Bearer ada" } });
      const list = pagesFrom<void, { id: number }>(api, { name: "list", url: "/api/list" });
      const { cache } = stage();
      cache.put(list, undefined, {
        items: [{ id: 1 }],
        count: 1,
        hasNext: true,
        hasPrevious: false,
        pages: [{ url: "/api/list", count: 1, next }],
      });
      await expect(appendPage(cache, list)).rejects.toMatchObject({ kind: "shape" });
      expect(seen).toEqual([]);
    },
  );

  test("the value of a list names no host: a list that was loaded inside goes on outside", async () => {
    const { api } = server((url) =>
      json([{ id: url.search }], url.search ? {} : { link: '</api/list?p=2>; rel="next"' }),
    );
    const { cache } = stage();
    const list = pagesFrom<void, any>(api, { name: "list", url: "/api/list" });
    await cache.read(list);
    await appendPage(cache, list);
    expect(JSON.stringify(takeSnapshot(cache))).not.toContain("huts.example");
    expect(cache.peek(list).value?.pages.map(({ url }: any) => url)).toEqual(["/api/list", "/api/list?p=2"]);
  });

  test("S5: redirected to another origin, a read takes nothing along", async () => {
    const { api, seen } = server(
      (url) =>
        url.hostname === "huts.example"
          ? new Response(null, { status: 302, headers: { location: "https://evil.example/a" } })
          : json(1, { "cache-groups": '"huts"' }),
      { headers: { authorization: "Bearer ada", "x-key": "k" } },
    );
    const { cache } = stage();
    await cache.read(api.source<any, number>(hut), id);
    expect([...(seen[1]?.headers.keys() ?? [])]).toEqual([]);
    expect([...entriesOf(cache)][0]?.groups).toEqual([`${base}/api/huts/h-07`]);
  });

  test("S5: a write is not redirected to another origin; the entries that it changed are asked about", async () => {
    const { api, seen } = server(
      () => new Response(null, { status: 307, headers: { location: "https://evil.example/" } }),
    );
    const write = writeTo<object, void>(api, { name: "book", method: "POST", url: "/api/basket" });
    await expect(createCache().run(write, { secret: 1 })).rejects.toThrow(/another origin, https:\/\/evil\.example/);
    expect(seen).toHaveLength(1);
  });

  test("an Idempotency-Key cannot be told from those before: 128 bits, whatever Math.random says", async () => {
    vi.spyOn(Math, "random").mockReturnValue(0.5);
    const { api, seen } = server(() => new Response(null, { status: 204 }));
    const write = writeTo<void, void>(api, { name: "book", method: "POST", url: "/api/basket", retry: {} });
    const cache = createCache();
    for (let run = 0; run < 3; run++) await cache.run(write);
    const keys = seen.map(({ headers }) => headers.get("idempotency-key"));
    expect(new Set(keys).size).toBe(3);
    expect(keys[0]).toMatch(/^"[0-9a-f]{32}"$/);
    vi.restoreAllMocks();
  });
});
