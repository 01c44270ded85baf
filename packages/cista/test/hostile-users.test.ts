import { createCache, entriesOf, source, takeSnapshot } from "cista";
import { writeTo } from "cista/http";
import { describe, expect, test, vi } from "vitest";
import { base, hut, id, json, server } from "./hostile-server.js";
import { inShort, stage, watch } from "./stage.js";

// What is one user's is not another's, whatever is shared between them.

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
    const own = source({ name: "own", params: false, load: async (_, { context }) => contexts.push(context) });
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
    const book = writeTo<void, void>(api, { name: "book", method: "POST", url: "/api/basket" });
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
    const book = writeTo<void, void>(api, { name: "book", method: "POST", url: "/api/basket", lane: "a" });
    cache.put(whose, id, "ada's");
    const { view } = watch(cache, whose, id);
    const read = cache.read(whose, { id: 2 });
    await clock.advance(0);
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
    expect([view.get().state, [...entriesOf(cache)].length, told]).toEqual(["empty", 1, 1]);
    expect(seen.map(({ url }) => url)).toEqual([`${base}/api/huts/2`]);
    expect(seen[0]?.init.signal?.aborted).toBe(true);
    for (const each of [read, ...runs]) await expect(each).rejects.toMatchObject({ kind: "aborted" });
    watch(cache, whose, id); // somebody comes anew
    await clock.advance(0);
    expect(seen).toHaveLength(2);
  });
});
