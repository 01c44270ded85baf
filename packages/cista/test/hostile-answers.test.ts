import { createCache, entriesOf, Failure } from "cista";
import { eventsFrom, graphqlFrom, graphqlTo, pagesFrom, path, withQuery, writeTo } from "cista/http";
import fc from "fast-check";
import { describe, expect, test, vi } from "vitest";
import { base, hut, id, json, server } from "./hostile-server.js";
import { stage, watch } from "./stage.js";

// Answers that are too large, cut short, of another kind, or not what was asked for.

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
    const [info] = [...entriesOf(cache)];
    expect(Number(info?.staleAt) - Number((info as any).reading.asOf)).toBe(7000);
  });

  test("S5: no body is read past maxBody, by any parser", async () => {
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
    const pages = pagesFrom<void, any>(list.api, { name: "list", url: "/api/list" });
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
    const list = pagesFrom<void, any>(api, { name: "list", url: "/api/list" });
    await cache.read(list);
    await cache.read(list, undefined, { cache: "no-cache" });
    expect(seen.length).toBeLessThanOrEqual(3);
  });

  test("R5: GraphQL errors of any shape are of kind graphql, with short, plain messages", async () => {
    for (const errors of [[null], ["text"], [{ message: { a: 1 } }], [{ message: "\u001b[31m".padEnd(5000, "x") }]]) {
      const { api } = server(() => json({ errors }));
      const failure = await createCache()
        .read(graphqlFrom(api, { name: "g", url: "/graphql", document: "{ a }", retry: false }))
        .catch((thrown: Failure) => thrown); // prettier-ignore
      expect(failure).toMatchObject({ kind: "graphql" });
      expect((failure as Failure).message.length).toBeLessThan(600);
      expect((failure as Failure).message).not.toContain("\u001b");
    }
    const created = server(() => new Response("", { status: 201, headers: { "content-type": "application/json" } }));
    expect(
      await createCache().run(writeTo(created.api, { name: "w", method: "POST", url: "/" }) as any),
    ).toBeUndefined();
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
    const events = eventsFrom<void, number[]>(api, {
      name: "e",
      url: "/e",
      start,
      reduce: (all, { data }) => [...all, Number(data)],
    });
    const { cache, clock } = stage();
    watch(cache, events);
    await vi.waitFor(async () => {
      await clock.advance("1s");
      expect(seen.length).toBeGreaterThan(1);
    });
    expect([start, Object.isFrozen(start)]).toEqual([[], false]); // copied: what is held is frozen
    expect(seen[1]?.headers.get("last-event-id")).toBe("h\u00c3\u00bctte");
    const line = server(() => stream(`data: ${"x".repeat(2 << 20)}`), { maxBody: 1 << 20 });
    const broken = stage();
    const { view } = watch(
      broken.cache,
      eventsFrom<void, number>(line.api, { name: "l", url: "/l", start: 0, reduce: (n) => n + 1 }),
    );
    await vi.waitFor(async () => {
      await broken.clock.advance(0);
      expect(view.get().failure?.message).toContain("longer than");
    });
  });
});

describe("the functions of a definition: their errors and their arguments", () => {
  test("a Failure that unwrap, parse, next or check throws stays as it is", async () => {
    const mine = () => {
      throw new Failure("graphql", "A note has 20 letters at most.", { retryable: false });
    };
    const check = { "~standard": { version: 1 as const, vendor: "own", validate: mine } };
    const { api } = server(() => json([{ ok: false }]));
    for (const more of [{ unwrap: mine }, { parse: async () => mine() }, { check }]) {
      const one = api.source<any, any>({ ...hut, ...(more as object) });
      await expect(stage().cache.read(one, id)).rejects.toMatchObject({
        kind: "graphql",
        message: "A note has 20 letters at most.",
      });
    }
    const list = pagesFrom<any, any>(api, { ...hut, name: "list", next: mine });
    await expect(stage().cache.read(list, id)).rejects.toMatchObject({ kind: "graphql" });
    const save = writeTo<void, any>(api, { name: "save", method: "POST", url: "/x", unwrap: mine });
    await expect(stage().cache.run(save)).rejects.toMatchObject({ message: "A note has 20 letters at most." });
  });

  test("R8: 204 is no value, unless unwrap makes one of it", async () => {
    const { api, seen } = server(() => new Response(null, { status: 204 }));
    const { cache, clock } = stage();
    const plain = cache.read(api.source<any, { id: string }>({ ...hut, retry: {} }), id).catch((failure) => failure);
    await clock.advance("1m");
    expect(await plain).toMatchObject({ kind: "no-value", status: 204, retryable: false });
    expect(seen).toHaveLength(1);
    expect(
      await cache.read(api.source<any, any>({ ...hut, name: "b", unwrap: (body: any) => body ?? "nothing" }), id),
    ).toBe("nothing");
  });

  test("next of a list gives a URL: a number is refused, a cursor is warned of", async () => {
    const warn = vi.spyOn(console, "warn").mockReturnValue(undefined);
    const { api, seen } = server(() => json({ items: [1], cursor: "abc123" }));
    const listOf = (name: string, next: any) =>
      pagesFrom<any, any>(api, { ...hut, name, unwrap: ({ items }) => items, next });
    await expect(
      stage().cache.read(
        listOf("a", () => 7),
        id,
      ),
    ).rejects.toMatchObject({ kind: "shape", message: expect.stringContaining("gave 7") });
    await stage().cache.read(
      listOf("b", ({ cursor }: any) => cursor),
      id,
    );
    expect(String(warn.mock.calls[0]?.[0])).toContain('withQuery("/api/huts/h-07", { cursor })');
    await stage().cache.read(
      listOf("c", ({ cursor }: any, _: any, { id }: any) => withQuery(`/api/huts/${id}`, { cursor })),
      id,
    );
    expect([warn.mock.calls.length, seen.length]).toEqual([1, 3]);
    warn.mockRestore();
  });

  test("headers that are a function where none is taken are refused, and undefined fields are left out", async () => {
    const { api, seen } = server(() => json(1), { headers: () => ({ authorization: undefined, "x-a": "1" }) });
    for (const make of [eventsFrom, graphqlFrom, graphqlTo] as any[])
      expect(() => make(api, { ...hut, method: "POST", document: "{ a }", headers: () => ({}) })).toThrow(
        expect.objectContaining({ code: "invalid-headers" }),
      );
    await stage().cache.read(api.source<any, number>({ ...hut, headers: { "x-b": undefined } }), id);
    expect([...(seen[0]?.headers.keys() ?? [])]).toEqual(["x-a"]);
  });
});

describe("a path made of params", () => {
  test("each value is one segment, whatever is in it", () => {
    expect(path`/api/huts/${"a?b/c#d %2e"}/bunks/${7}`).toBe("/api/huts/a%3Fb%2Fc%23d%20%252e/bunks/7");
    expect(path`/api/huts/${"..."}?night=${"2026-12-06"}`).toBe("/api/huts/...?night=2026-12-06");
    expect(path`/api`).toBe("/api");
    fc.assert(
      fc.property(
        fc.string({ minLength: 1 }).filter((text) => ![".", ".."].includes(text) && !/\p{Surrogate}/u.test(text)),
        (text) => {
          const { pathname, search, hash } = new URL(path`/api/huts/${text}/bunks`, base);
          expect([pathname.split("/").length, search, hash]).toEqual([5, "", ""]);
          expect(decodeURIComponent(pathname.split("/")[3] as string)).toBe(text);
        },
      ),
    );
  });

  test.each([[""], ["."], [".."], [undefined], [null], [{}], [Symbol("a")], ["\ud800"], [Number.NaN]])(
    "%s leads elsewhere, and is refused",
    (value) => {
      expect(() => path`/api/huts/${value as never}/bunks`).toThrow(expect.objectContaining({ code: "invalid-url" }));
      expect(() => path`/api/huts/.${"."}`).toThrow(expect.objectContaining({ code: "invalid-url" }));
    },
  );

  test("a source whose params lead elsewhere fails, and nothing is asked", async () => {
    const { api, seen } = server(() => json(1));
    const one = api.source<{ id: string }, number>({ ...hut, url: ({ id }) => path`/api/huts/${id}` });
    await expect(stage().cache.read(one, { id: ".." })).rejects.toMatchObject({ kind: "load" });
    expect(seen).toEqual([]);
  });
});
