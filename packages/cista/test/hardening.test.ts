import { createCache, type Failure, jsonForScript, restoreSnapshot, source, takeSnapshot } from "cista";
import { appendPage, origin, parseCacheControl, parseLink, parseStringList } from "cista/http";
import { describe, expect, test, vi } from "vitest";
import { inShort, stage, watch } from "./stage.js";

// What hostile servers, foreign input and other users' data once did, each by its smallest form.

const base = "https://huts.example";
const json = (value: unknown, headers: HeadersInit = {}, status = 200) =>
  new Response(JSON.stringify(value), { status, headers: { "content-type": "application/json", ...headers } });
type Seen = { url: string; headers: Headers; init: RequestInit };
/** A server that answers as it is told, and writes down what it was asked. */
function server(
  answer: (url: URL, init: RequestInit & { headers: Headers }) => Response | Promise<Response>,
  options: object = {},
) {
  const seen: Seen[] = [];
  const fetch = async (given: any, init: any = {}) => {
    const headers = new Headers(init.headers);
    seen.push({ url: String(given), headers, init });
    return answer(new URL(given), { ...init, headers });
  };
  return { seen, api: origin({ base, fetch: fetch as never, ...options }) };
}
const hut = { name: "hut", url: ({ id }: any) => `/api/huts/${id}`, retry: false } as const;
const id = { id: "h-07" };

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
    expect([...cache.entries()][0]?.groups).toHaveLength(1001); // and its URL's
  });
});

describe("what goes to which origin", () => {
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
    const write = plain.api.write<string, void>({ name: "send", method: "POST", url: (url) => url });
    await expect(cache.run(write, "https://evil.example/a")).rejects.toMatchObject({ kind: "load" });
    expect(plain.seen).toHaveLength(1);
  });

  test.each(["https://evil.example/steal", "//evil.example/steal"])(
    "a stored list's next, %s, is not followed",
    async (next) => {
      const { api, seen } = server(() => json([]), { headers: { authorization: "Bearer ada" } });
      const list = api.pages<void, { id: number }>({ name: "list", url: "/api/list" });
      const { cache } = stage();
      cache.put(list, undefined, {
        items: [{ id: 1 }],
        count: 1,
        hasNext: true,
        pages: [{ url: "/api/list", count: 1, next }],
      });
      await expect(appendPage(cache, list)).rejects.toMatchObject({ kind: "shape" });
      expect(seen).toEqual([]);
    },
  );

  test("the value of a list names no host: what was loaded inside goes on outside", async () => {
    const { api } = server((url) =>
      json([{ id: url.search }], url.search ? {} : { link: '</api/list?p=2>; rel="next"' }),
    );
    const { cache } = stage();
    const list = api.pages<void, any>({ name: "list", url: "/api/list" });
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
    expect([...cache.entries()][0]?.groups).toEqual([`${base}/api/huts/h-07`]);
  });

  test("S5: a write is not redirected to another origin; what it lies on is asked about", async () => {
    const { api, seen } = server(
      () => new Response(null, { status: 307, headers: { location: "https://evil.example/" } }),
    );
    const write = api.write<object, void>({ name: "book", method: "POST", url: "/api/basket" });
    await expect(createCache().run(write, { secret: 1 })).rejects.toThrow(/another origin, https:\/\/evil\.example/);
    expect(seen).toHaveLength(1);
  });

  test("an Idempotency-Key cannot be told from those before: 128 bits, whatever Math.random says", async () => {
    vi.spyOn(Math, "random").mockReturnValue(0.5);
    const { api, seen } = server(() => new Response(null, { status: 204 }));
    const write = api.write<void, void>({ name: "book", method: "POST", url: "/api/basket" });
    const cache = createCache();
    for (let run = 0; run < 3; run++) await cache.run(write);
    const keys = seen.map(({ headers }) => headers.get("idempotency-key"));
    expect(new Set(keys).size).toBe(3);
    expect(keys[0]).toMatch(/^"[0-9a-f]{32}"$/);
    vi.restoreAllMocks();
  });
});

describe("whose answer it is", () => {
  const tokens = (vary?: string) => {
    let token = "Bearer ada";
    const { api, seen } = server(
      (_, { headers }) =>
        json(headers.get("authorization"), { "cache-control": "max-age=60", etag: '"a"', ...(vary ? { vary } : {}) }),
      { headers: () => ({ authorization: token, "x-lang": token.slice(-1) }) },
    );
    return { source: api.source<any, string>(hut), seen, change: (next: string) => (token = next) };
  };

  test.each([[undefined], ["x-lang"], ["Accept-Encoding"]])(
    "F9: Ada's answer is not held for Bob (Vary: %s)",
    async (vary) => {
      const { source: whose, seen, change } = tokens(vary);
      const { cache, clock } = stage();
      expect(await cache.read(whose, id)).toBe("Bearer ada");
      change("Bearer bob");
      expect(cache.peek(whose, id).state).toBe("empty");
      expect(takeSnapshot(cache).entries).toEqual([]);
      await expect(cache.read(whose, id, { cache: "only-if-cached" })).rejects.toMatchObject({ kind: "not-cached" });
      const { view } = watch(cache, whose, id);
      expect(inShort(view.get())).toBe("loading running");
      await clock.advance(0);
      expect([view.get().value, seen[1]?.headers.get("if-none-match")]).toEqual(["Bearer bob", null]);
      change("Bearer ada");
      expect(await cache.read(whose, id)).toBe("Bearer ada");
      expect(seen).toHaveLength(3);
    },
  );

  test("F9: over a snapshot too, and the token itself is not in it", async () => {
    const { source: whose, change } = tokens();
    const { cache } = stage();
    await cache.read(whose, id);
    const snapshot = JSON.parse(JSON.stringify(takeSnapshot(cache)));
    expect(JSON.stringify({ ...snapshot.entries[0], value: undefined })).not.toMatch(/bearer|ada/i);
    expect(JSON.stringify(snapshot.entries[0].varies)).not.toContain("ada");
    expect(stage({ snapshot }).cache.peek(whose, id).value).toBe("Bearer ada");
    change("Bearer bob");
    expect(stage({ snapshot }).cache.peek(whose, id).state).toBe("empty");
  });

  test.each([401, 403])("after %s the failure is shown and the value let go", async (status) => {
    let refused = false;
    const { api } = server(() =>
      refused ? new Response(null, { status }) : json("ada's", { "cache-control": "max-age=60" }),
    );
    const whose = api.source<any, string>(hut);
    const { cache, clock } = stage();
    const { view } = watch(cache, whose, id);
    await clock.advance(0);
    refused = true;
    await view.revalidate();
    expect(inShort(view.get())).toBe("failed (http)");
    expect(cache.peek(whose, id).value).toBeUndefined();
  });

  test.each([
    [500, "ready 1 stale (http)"],
    [503, "ready 1 stale (http)"],
    [429, "failed (http)"],
    [400, "failed (http)"],
  ])("RFC 5861 §4: a stale value stands in for %s as it says", async (status, shown) => {
    let fails = false;
    const { api } = server(() => (fails ? new Response(null, { status }) : json(1, { "cache-control": "max-age=1" })));
    const { cache, clock } = stage();
    const { view } = watch(cache, api.source<any, number>(hut), id);
    await clock.advance("2s");
    fails = true;
    await view.revalidate();
    expect(inShort(view.get())).toBe(shown);
  });

  test("S5: the request's context reaches headers, loads and writes", async () => {
    const { api, seen } = server(() => json(1), { headers: ({ context }: any) => ({ authorization: context.user }) });
    const whose = api.source<any, number>(hut);
    const contexts: unknown[] = [];
    const own = source({ name: "own", load: async (_: void, { context }) => contexts.push(context) });
    await Promise.all(
      ["ada", "bob"].map(async (user) => {
        const cache = createCache({ context: { user } });
        await Promise.all([cache.read(whose, id), cache.read(own)]);
      }),
    );
    expect(seen.map(({ headers }) => headers.get("authorization")).sort()).toEqual(["ada", "bob"]);
    expect(contexts).toEqual([{ user: "ada" }, { user: "bob" }]);
  });

  test("on a server, one cache for two users is warned of, once", async () => {
    const warn = vi.spyOn(console, "warn").mockReturnValue(undefined);
    const { source: whose, change } = tokens();
    const cache = createCache();
    for (const user of ["ada", "bob", "cleo"]) {
      change(user);
      await cache.read(whose, id);
    }
    expect(warn.mock.calls.map(String)).toEqual([expect.stringContaining("make a cache for each request")]);
    warn.mockRestore();
  });

  test("W4: a write over HTTP that is aborted right after it was run is not sent", async () => {
    const { api, seen } = server(() => new Response(null, { status: 204 }));
    const book = api.write<void, void>({ name: "book", method: "POST", url: "/api/basket" });
    const stop = new AbortController();
    const run = createCache().run(book, undefined, { signal: stop.signal });
    stop.abort("changed my mind");
    await expect(run).rejects.toBe("changed my mind");
    expect(seen).toEqual([]);
  });

  test("S4: after signOut nothing is held, sent or asked for, whatever was under way", async () => {
    const { api, seen } = server(() => new Promise(() => {}));
    const { cache, clock, environment } = stage();
    const whose = api.source<any, string>(hut);
    const book = api.write<void, void>({ name: "book", method: "POST", url: "/api/basket", lane: "a" });
    cache.put(whose, id, "ada's");
    const { view } = watch(cache, whose, id);
    const read = cache.read(whose, { id: 2 });
    environment.set({ online: false });
    const runs = [cache.run(book), cache.run(book)];
    for (const each of [read, ...runs]) each.catch(() => {});
    let told = 0;
    cache.onSignOut(() => told++);
    await cache.signOut();
    environment.set({ online: true, visible: false });
    environment.set({ visible: true });
    cache.invalidate("all");
    await clock.advance("1h");
    expect([view.get().state, [...cache.entries()].length, told]).toEqual(["empty", 1, 1]);
    expect(seen.map(({ url }) => url)).toEqual([`${base}/api/huts/2`]);
    expect(seen[0]?.init.signal?.aborted).toBe(true);
    for (const each of [read, ...runs]) await expect(each).rejects.toMatchObject({ kind: "aborted" });
    watch(cache, whose, id); // somebody comes anew
    await clock.advance(0);
    expect(seen).toHaveLength(2);
  });
});

describe("answers", () => {
  test("a 304 that was not asked for, or is about another representation, freshens nothing", async () => {
    let answer = () => json("a", { etag: '"a"', "cache-control": "max-age=60" });
    const { api, seen } = server(() => answer());
    const { cache } = stage();
    const one = api.source<any, string>(hut);
    await cache.read(one, id);
    answer = () =>
      seen.length === 2
        ? new Response(null, { status: 304, headers: { etag: '"other"' } })
        : json("b", { etag: '"b"' });
    expect(await cache.read(one, id, { cache: "no-cache" })).toBe("b");
    expect(seen[2]?.headers.get("if-none-match")).toBeNull();
    const odd = server(() => json(1, { etag: "not an entity tag", "last-modified": "Sun, 01 Nov 2026 06:00:00 GMT" }));
    const other = odd.api.source<any, number>(hut);
    await stage().cache.read(other, id);
    expect(odd.seen).toHaveLength(1);
    const unasked = server(() => new Response(null, { status: 304 }));
    cache.put(unasked.api.source<any, number>({ ...hut, name: "unasked" }), id, 1);
    const again = unasked.api.source<any, number>({ ...hut, name: "again" });
    const { cache: own } = stage();
    own.put(again, id, 1); // no validator, so no condition
    await expect(own.read(again, id, { cache: "no-cache" })).rejects.toMatchObject({ kind: "http", status: 304 });
  });

  test("a 304 without Cache-Control keeps the lifetime that was stated", async () => {
    const { api, seen } = server(() =>
      seen.length > 1 ? new Response(null, { status: 304 }) : json(1, { etag: '"a"', "cache-control": "max-age=7" }),
    );
    const { cache } = stage();
    const one = api.source<any, number>(hut);
    await cache.read(one, id);
    await cache.read(one, id, { cache: "no-cache" });
    const [info] = [...cache.entries()];
    expect(Number(info?.staleAt) - Number((info as any).reading.storedAt)).toBe(7000);
  });

  test("S5: no body is read past maxBody, whoever parses it", async () => {
    let cancelled = 0;
    const endless = (headers: HeadersInit) => {
      const body = new ReadableStream({
        pull: (to) => to.enqueue(new Uint8Array(1 << 16)),
        cancel: () => void cancelled++,
      });
      return new Response(body, { headers });
    };
    const first = (seen: unknown[], value: unknown) => seen.length === 1 && json(value, { etag: '"a"' });
    const held: ReturnType<typeof server> = server(() => first(held.seen, 1) || endless({ etag: '"a"' }), {
      maxBody: 1 << 20,
    });
    const { cache } = stage();
    const one = held.api.source<any, any>(hut);
    await cache.read(one, id);
    expect(await cache.read(one, id, { cache: "reload" }).catch((failure: Failure) => failure.kind)).toBe("http");
    await cache.read(one, id, { cache: "no-cache" }).catch(() => {});
    const own = server(() => endless({}), { maxBody: 1 << 20 });
    const parsed = own.api.source<any, any>({ ...hut, parse: (response) => response.text() });
    await expect(stage().cache.read(parsed, id)).rejects.toMatchObject({
      kind: "http",
      message: expect.stringContaining("longer than"),
    });
    const list: ReturnType<typeof server> = server(() => first(list.seen, []) || endless({ etag: '"a"' }), {
      maxBody: 1 << 20,
    });
    const pages = list.api.pages<void, any>({ name: "list", url: "/api/list" });
    const { cache: other } = stage();
    await other.read(pages);
    await other.read(pages, undefined, { cache: "no-cache" });
    expect(cancelled).toBe(4);
  });

  test("a revalidation asks for no more parts than were held, however many a server names", async () => {
    let part = 0;
    const { api, seen } = server(() =>
      json(part === 0 ? [{ id: 1 }] : [], { link: `</api/list?p=${++part}>; rel="next"` }),
    );
    const { cache } = stage();
    const list = api.pages<void, any>({ name: "list", url: "/api/list" });
    await cache.read(list);
    await cache.read(list, undefined, { cache: "no-cache" });
    expect(seen.length).toBeLessThanOrEqual(3);
  });

  test("R5: GraphQL errors of any shape are of kind graphql, with short, plain messages", async () => {
    for (const errors of [[null], ["text"], [{ message: { a: 1 } }], [{ message: "\u001b[31m".padEnd(5000, "x") }]]) {
      const { api } = server(() => json({ errors }));
      const failure = await createCache()
        .read(api.graphql({ name: "g", url: "/graphql", document: "{ a }", retry: false }))
        .catch((thrown: Failure) => thrown); // prettier-ignore
      expect(failure).toMatchObject({ kind: "graphql" });
      expect((failure as Failure).message.length).toBeLessThan(600);
      expect((failure as Failure).message).not.toContain("\u001b");
    }
    const created = server(() => new Response("", { status: 201, headers: { "content-type": "application/json" } }));
    expect(await createCache().run(created.api.write({ name: "w", method: "POST", url: "/" }) as any)).toBeUndefined();
    const detail = `\u009b2J${"y".repeat(3_000_000)}`;
    const failing = server(() => json({ title: "no", detail }, { "content-type": "application/problem+json" }, 500));
    const failure = await createCache()
      .read(failing.api.source<any, any>(hut), id)
      .catch((thrown: Failure) => thrown);
    expect((failure as Failure).message.length).toBeLessThan(1000);
    expect((failure as Failure).problem?.detail).toBe(detail);
  });

  test("R5: event ids go out as UTF-8; one endless line ends the stream", async () => {
    const encoder = new TextEncoder();
    const stream = (text: string) => {
      const body = new ReadableStream({
        start(to) {
          to.enqueue(encoder.encode(text));
          to.close();
        },
      });
      return new Response(body, { headers: { "content-type": "text/event-stream" } });
    };
    const { api, seen } = server(() => stream("id: hütte\ndata: 1\n\nid: a\0b\ndata: 2\n\n"));
    const start: number[] = [];
    const events = api.events<void, number[]>({
      name: "e",
      url: "/e",
      start,
      reduce: (all, { data }) => [...all.splice(all.length, 0, Number(data)), ...all],
    });
    const { cache, clock } = stage();
    watch(cache, events);
    await vi.waitFor(async () => {
      await clock.advance("1s");
      expect(seen.length).toBeGreaterThan(1);
    });
    expect(start).toEqual([]);
    expect(seen[1]?.headers.get("last-event-id")).toBe("h\u00c3\u00bctte");
    const line = server(() => stream(`data: ${"x".repeat(2 << 20)}`), { maxBody: 1 << 20 });
    const broken = stage();
    const { view } = watch(
      broken.cache,
      line.api.events<void, number>({ name: "l", url: "/l", start: 0, reduce: (n) => n + 1 }),
    );
    await vi.waitFor(async () => {
      await broken.clock.advance(0);
      expect(view.get().failure?.message).toContain("longer than");
    });
  });
});

describe("snapshots", () => {
  test("no internal address leaves in one; the URL's label is made anew where it is taken in", async () => {
    const inside = server(() => json(1, { "cache-groups": '"huts"' }), { base: "http://internal:3000" });
    const { cache } = stage();
    await cache.read(inside.api.source<any, number>(hut), id);
    const snapshot = JSON.parse(JSON.stringify(takeSnapshot(cache)));
    expect(JSON.stringify(snapshot)).not.toContain("internal");
    const there = stage({ snapshot });
    const outside = server(() => json(1)).api.source<any, number>(hut);
    there.cache.peek(outside, id);
    expect(there.cache.invalidate({ group: `${base}/api/huts/h-07` })).toBe(1);
  });

  const entry = (more: object) => ({
    source: "hut",
    kind: "value",
    value: 1,
    age: 0,
    maxAge: 60_000,
    staleWhileRevalidate: null,
    staleIfError: null,
    ...more,
  }); // prettier-ignore
  const taken = (entries: unknown[], takenAt = Date.UTC(2026, 10, 23, 18)) =>
    ({ format: "cista-snapshot", version: 1, takenAt, entries }) as const;

  test("S1: what the source's check refuses, and what is malformed, is dropped, not the rest", async () => {
    const positive = {
      "~standard": {
        version: 1,
        vendor: "t",
        validate: (value: any) => (value > 0 ? { value } : { issues: [{ message: "no" }] }),
      },
    } as any; // prettier-ignore
    const checked = source({ name: "hut", check: positive, load: async (_: number) => 1 });
    const throwing = Object.defineProperty(entry({ params: 5 }), "value", {
      enumerable: true,
      get: () => {
        throw new Error("no");
      },
    }); // prettier-ignore
    const { cache, events } = stage();
    restoreSnapshot(
      cache,
      taken([
        entry({ params: 1 }),
        entry({ params: 2, value: -1 }),
        entry({ params: 3, etag: "a\r\nb" }),
        throwing,
        entry({ params: 4 }),
      ]),
    );
    expect([1, 2, 3, 4, 5].map((params) => cache.peek(checked, params).value)).toEqual([
      1,
      undefined,
      undefined,
      1,
      undefined,
    ]);
    expect(events.filter(({ kind }) => kind === "warning")).toHaveLength(3);
    const list = server(() => json([])).api.pages<void, any>({ name: "hut", url: "/" });
    const other = stage({ snapshot: taken([entry({ value: "no list" })]) });
    expect(other.cache.peek(list).state).toBe("empty");
  });

  test("S1: one taken by a clock that was ahead is shown to nobody unchecked", async () => {
    const hutSource = source({ name: "hut", load: async (_: number) => 2 });
    const { cache } = stage({ snapshot: taken([entry({ params: 1 })], Date.UTC(2026, 10, 23, 19)) });
    expect(await cache.read(hutSource, 1)).toBe(2);
  });

  test("S2: what the server called no-store stays so when a program puts it", async () => {
    const { api } = server(() => json(1, { "cache-control": "no-store" }));
    const { cache, clock } = stage();
    const secret = api.source<any, any>(hut);
    watch(cache, secret, id);
    await clock.advance(0);
    cache.put(secret, id, 2);
    expect(takeSnapshot(cache).entries).toEqual([]);
    let deep: any = 1;
    for (let level = 0; level < 100_000; level++) deep = [deep];
    cache.put(source({ name: "deep", share: false, load: async (): Promise<any> => 1 }), undefined, deep);
    cache.put(source({ name: "flat", load: async () => 1 }), undefined, 1);
    expect(JSON.parse(JSON.stringify(takeSnapshot(cache))).entries).toHaveLength(1);
  });

  test("jsonForScript: nothing in it ends its element, and JSON.parse gives it back", () => {
    const value = { a: "</script><!--<script>\u2028&amp;" };
    expect(jsonForScript(value)).not.toMatch(/[<>&\u2028]/);
    expect(JSON.parse(jsonForScript(value))).toEqual(value);
  });
});

test("keys: params that share a hash cost no more than others, in the program's whole life", () => {
  const { cache } = stage({ capacity: 100_000 });
  const hutSource = source({ name: "hut", load: async (_: object) => 1 });
  for (let n = 0; n < 20_000; n++) cache.put(hutSource, { [`k${n}`]: true }, 1);
  expect(cache.peek(hutSource, { k777: true }).value).toBe(1);
});
