import { composite, createCache, intercept, restoreSnapshot, takeSnapshot } from "cista";
import { openPage } from "cista/server";
import { describe, expect, test, vi } from "vitest";
import { fresh, hut, id, json, server, whoServer } from "./hostile-server.js";
import { inShort, stage, watch } from "./stage.js";
import { World } from "./tabs/world.js";

// Rule F9: whose answer it is, and who asks now. One program for each way in which the two can differ.

describe("a token that `renew` brought is the same user's", () => {
  const program = (later = false, more: object = {}) => {
    let token = "t1";
    let refuse = false;
    let renewals = 0;
    const said = () => ({ authorization: `Bearer ${token}` });
    const { api, seen } = server(
      (_, init) => {
        if (refuse && init.headers.get("authorization") === "Bearer t1") return new Response(null, { status: 401 });
        if (init.headers.get("if-none-match")) return new Response(null, { status: 304, headers: fresh });
        return json(init.headers.get("authorization"), fresh);
      },
      {
        headers: later ? async () => said() : said,
        renew: async () => {
          renewals++;
          token = "t2";
        },
        ...more,
      },
    );
    return {
      whose: api.source<any, string>(hut),
      seen,
      refuse: () => (refuse = true),
      become: (other: string) => (token = other),
      count: () => renewals,
    };
  };

  test.each([[false], [true]])("the values stay held (headers asynchronous: %s)", async (later) => {
    const { whose, seen, refuse } = program(later);
    const { cache, clock } = stage();
    await cache.read(whose, { id: 1 });
    await cache.read(whose, { id: 2 });
    refuse();
    await cache.read(whose, { id: 3 });
    expect(seen.map(({ headers }) => headers.get("authorization")?.slice(7))).toEqual(["t1", "t1", "t1", "t2"]);
    const { view } = watch(cache, whose, { id: 1 });
    expect([inShort(view.get()), cache.peek(whose, { id: 2 }).state]).toEqual(['ready "Bearer t1"', "ready"]);
    await clock.advance("601s");
    await view.revalidate();
    expect(seen.at(-1)?.headers.get("if-none-match")).toBe('"e"');
    expect(seen).toHaveLength(5);
  });

  test("a token that came by another way is another user's, though one was renewed", async () => {
    const { whose, refuse, become } = program();
    const { cache } = stage();
    await cache.read(whose, { id: 1 });
    refuse();
    await cache.read(whose, { id: 3 });
    become("bob");
    expect([cache.peek(whose, { id: 1 }).state, cache.peek(whose, { id: 3 }).state]).toEqual(["empty", "empty"]);
    become("t2");
    expect(cache.peek(whose, { id: 1 }).state).toBe("ready");
  });

  test("a user who signs in while another's request is refused stays another user", async () => {
    let token = "ada";
    let answer = (_: Response) => {};
    const refused = new Promise<Response>((resolve) => {
      answer = resolve;
    });
    const { api } = server(
      (url, { headers }) => (url.pathname.endsWith("/9") ? refused : json(headers.get("authorization"), fresh)),
      { headers: () => ({ authorization: token }), renew: async () => {} },
    );
    const whose = api.source<any, string>(hut);
    const { cache } = stage();
    await cache.read(whose, { id: 1 });
    const reading = cache.read(whose, { id: 9 }).catch(() => {});
    await new Promise((resolve) => setTimeout(resolve, 5));
    token = "bob"; // without signOut
    answer(new Response(null, { status: 401 }));
    await reading;
    expect(cache.peek(whose, { id: 1 }).state).toBe("empty");
  });
});

describe("the user that `partition` or `user` names counts, and not the token", () => {
  const tokens = (options: object = {}, headers = fresh, vary?: string) => {
    const at = { token: "t1", user: "ada" as string | undefined };
    const { api, seen } = whoServer(
      {
        headers: () => ({ authorization: `Bearer ${at.token}` }),
        ...options,
        ...("user" in options ? { user: () => at.user } : {}),
      },
      headers,
      vary,
    );
    return { at, whose: api.source<any, string>(hut), seen };
  };

  test.each([[undefined], ["Authorization"]])("a partition: no token is compared (Vary: %s)", async (vary) => {
    const { at, whose } = tokens({}, fresh, vary);
    const { cache } = stage({ partition: "ada" });
    await cache.read(whose, id);
    at.token = "t2";
    expect(cache.peek(whose, id).state).toBe("ready");
    expect(JSON.stringify(takeSnapshot(cache))).not.toContain("authorization");
  });

  test("a user: over any tokens, over a snapshot, and not for another", async () => {
    const { at, whose, seen } = tokens({ user: true });
    const { cache, clock } = stage();
    await cache.read(whose, id);
    at.token = "t2";
    expect(cache.peek(whose, id).value).toBe("Bearer t1");
    const snapshot = JSON.parse(JSON.stringify(takeSnapshot(cache)));
    expect(stage({ snapshot }).cache.peek(whose, id).state).toBe("ready");
    Object.assign(at, { token: "t3", user: "bob" });
    expect([cache.peek(whose, id).state, stage({ snapshot }).cache.peek(whose, id).state]).toEqual(["empty", "empty"]);
    const { view } = watch(cache, whose, id);
    await clock.advance(0);
    expect([view.get().value, seen.at(-1)?.headers.get("if-none-match")]).toEqual(["Bearer t3", null]);
    Object.assign(at, { token: "", user: undefined });
    expect(cache.peek(whose, id).state).toBe("empty");
  });

  test("a user who comes by a cookie, of which nothing can be seen", async () => {
    let user: string | undefined;
    const { api } = server(() => json(user ?? "nobody", fresh), { user: () => user });
    const me = api.source<any, string>(hut);
    const { cache } = stage();
    expect(await cache.read(me, id)).toBe("nobody");
    user = "ada";
    expect(await cache.read(me, id)).toBe("ada");
    user = "bob";
    expect(cache.peek(me, id).state).toBe("empty");
  });

  test("§3.5: a public answer is no user's own", async () => {
    for (const control of ["public, max-age=60", "s-maxage=60, max-age=60"]) {
      const { at, whose } = tokens({}, { ...fresh, "cache-control": control });
      const { cache } = stage();
      await cache.read(whose, id);
      at.token = "t2";
      expect(cache.peek(whose, id).state).toBe("ready");
    }
    const { at, whose } = tokens({}, { ...fresh, "cache-control": "public, private, max-age=60" });
    const { cache } = stage();
    await cache.read(whose, id);
    at.token = "t2";
    expect(cache.peek(whose, id).state).toBe("empty");
  });
});

describe("a composite of another user's answers is that user's too", () => {
  const program = async () => {
    const at = { token: "ada" };
    const { api, seen } = whoServer({ headers: () => ({ authorization: at.token }) });
    const me = api.source<any, string>({ ...hut, name: "me" });
    const whole = composite({
      name: "whole",
      params: false,
      maxAge: "1h",
      load: async (_, { read }) => `of ${await read(me, id)}`,
    });
    const above = composite({
      name: "above",
      params: false,
      maxAge: "1h",
      load: async (_, { read }) => `above ${await read(whole)}`,
    });
    const made = stage();
    await made.cache.read(above);
    return { at, me, whole, above, seen, ...made };
  };

  test("F9: read, peek and view of a composite, and of composites above it, are the new user's", async () => {
    const { at, whole, above, cache, clock, seen } = await program();
    at.token = "bob";
    expect([cache.peek(whole).state, cache.peek(above).state]).toEqual(["empty", "empty"]);
    expect(await cache.read(above)).toBe("above of bob");
    const { view } = watch(cache, whole);
    await clock.advance(0);
    expect([view.get().value, seen.length]).toEqual(["of bob", 2]);
    at.token = "ada"; // what was Bob's is not held for her
    expect(cache.peek(above).state).toBe("empty");
  });

  test("F9: a watched composite never shows the new user the former one's answer", async () => {
    const { at, me, above, cache, clock } = await program();
    const { view, seen: shown } = watch(cache, above);
    at.token = "bob";
    shown.length = 0;
    await cache.read(me, { id: 2 }); // any request tells that somebody else asks
    await clock.advance(0);
    expect(inShort(view.get())).toBe('ready "above of bob"');
    expect(shown.join()).not.toContain("ada");
  });

  test("F9: neither a snapshot nor a store hands on a composite that is made of a token's answers", async () => {
    const { above, cache, clock } = await program();
    const snapshot = JSON.parse(JSON.stringify(takeSnapshot(cache)));
    const { cache: other } = stage({ snapshot, now: clock.now() });
    other.peek(above);
    expect(other.peek(above).state).toBe("empty"); // the name of her token means nothing there
  });
});

describe("headers that take their time", () => {
  test.each([150, 300, 1000])("%i keys: all are shown, and asked once", async (many) => {
    let calls = 0;
    const { api, seen } = whoServer({
      headers: async () => {
        calls++;
        return { authorization: "Bearer t" };
      },
    });
    const whose = api.source<any, string>(hut);
    const { cache, clock } = stage();
    const views = Array.from({ length: many }, (_, at) => watch(cache, whose, { id: at }).view);
    await clock.advance("1s");
    for (let at = 0; at < many; at++) watch(cache, whose, { id: at });
    await clock.advance("1s");
    expect(new Set(views.map((view) => inShort(view.get())))).toEqual(new Set(['ready "Bearer t"']));
    expect([seen.length, calls]).toEqual([many, many]);
  });

  test("two users rendered at once: each page has its values, without waiting", async () => {
    const warn = vi.spyOn(console, "warn").mockReturnValue(undefined);
    const { api, seen } = server(
      async (_, { headers }) => {
        const who = headers.get("authorization");
        await new Promise((resolve) => setTimeout(resolve, who === "A" ? 5 : 15));
        return json(who, fresh);
      },
      { headers: async ({ context }: any) => ({ authorization: context.user }) },
    );
    const me = api.source<any, string>(hut);
    const pages = await Promise.all(
      Array.from({ length: 20 }, async (_, at) => {
        const user = "AB"[at % 2] as string;
        const cache = createCache({ context: { user } });
        const page = openPage(cache, { timeout: "3s" });
        const shown = await page.show(me, id);
        const again = await cache.read(me, id);
        page.close();
        return [shown.value, again].every((value) => value === user);
      }),
    );
    expect([pages.every(Boolean), seen.length, warn.mock.calls]).toEqual([true, 20, []]);
    warn.mockRestore();
  });

  test("another token at a later request: the first one's values are not held from then on", async () => {
    let token = "ada";
    const { api } = whoServer({
      headers: async ({ url }: any) => (url.pathname.endsWith("/0") ? {} : { authorization: token }),
    });
    const whose = api.source<any, string>(hut);
    const { cache } = stage();
    await cache.read(whose, { id: 1 });
    await cache.read(whose, { id: 0 }); // says nothing
    expect(cache.peek(whose, { id: 1 }).state).toBe("ready");
    token = "bob";
    await cache.read(whose, { id: 2 });
    expect([0, 1, 2].map((at) => cache.peek(whose, { id: at }).state)).toEqual(["ready", "empty", "ready"]);
  });
});

describe("joined tabs take in the values that are for their own user", () => {
  async function twoTabs(said: (tab: number) => object, headers: any = fresh, vary?: string) {
    const world = new World();
    const requests: string[] = [];
    const tabs = await Promise.all(
      [0, 1].map(async (at) => {
        const tab = await world.open({ join: false });
        const { api } = server(async (_, init) => {
          const who = init.headers.get("authorization") ?? init.headers.get("x-tenant") ?? "nobody";
          requests.push(who);
          await new Promise<void>((resolve) => world.clock.setTimer(() => resolve(), 300));
          return json(who, vary ? { ...headers, vary } : headers);
        }, said(at));
        const me = api.source<any, string>({ ...hut, name: "me" });
        return { tab, me, cache: tab.cache, read: () => tab.cache.read(me, id) };
      }),
    );
    for (const { tab } of tabs) await tab.join();
    await world.clock.advance("100ms");
    const settled = async <T>(all: Promise<T>[]) => {
      const both = Promise.all(all);
      await world.clock.advance("3s");
      return both;
    };
    return { world, tabs, requests, settled };
  }
  const bearer = (who: string) => ({ authorization: who });

  test.each([
    ["two tokens", (at: number) => ({ headers: () => bearer("AB"[at] as string) }), undefined],
    ["two tokens, later", (at: number) => ({ headers: async () => bearer("AB"[at] as string) }), undefined],
    ["a tenant each", (at: number) => ({ headers: { "x-tenant": "AB"[at] } }), "X-Tenant"],
    ["two users", (at: number) => ({ headers: () => bearer("AB"[at] as string), user: () => "AB"[at] }), undefined],
  ])("A1, %s: read, view and welcome never bring another's, and no view is left empty", async (_, said, vary) => {
    const { world, tabs, requests, settled } = await twoTabs(said as never, fresh, vary);
    const views = tabs.map(({ cache, me }) => watch(cache, me, id));
    expect(await settled(tabs.map(({ read }) => read()))).toEqual(["A", "B"]);
    expect(await settled(tabs.map(({ read }) => read()))).toEqual(["A", "B"]);
    expect(views.map(({ view }) => inShort(view.get()))).toEqual(['ready "A"', 'ready "B"']);
    expect(requests.sort()).toEqual(["A", "B"]);
    void tabs[0]?.cache.invalidate("all");
    await world.clock.advance("3s");
    expect(views.map(({ view }) => inShort(view.get()))).toEqual(['ready "A"', 'ready "B"']);
    expect(views.map(({ seen }) => seen.join().includes("empty"))).toEqual([false, false]);
  });

  test("one user who is named, with a token in each tab: asked once", async () => {
    const { tabs, requests, settled } = await twoTabs((at) => ({ headers: () => bearer(`t${at}`), user: () => "ada" }));
    expect(new Set(await settled(tabs.map(({ read }) => read()))).size).toBe(1);
    expect(requests).toHaveLength(1);
  });

  test("a `public` value is asked for once, with any tokens", async () => {
    const { tabs, requests, settled } = await twoTabs((at) => ({ headers: () => bearer(`t${at}`) }), {
      "cache-control": "public, max-age=600",
    });
    await settled(tabs.map(({ read }) => read()));
    expect(requests).toHaveLength(1);
  });
});

describe("nothing of a secret leaves the memory", () => {
  const secret = "Basic Ym9hcmQ6dHVsaXA3NDMx";
  test.each([
    [{ authorization: secret }, undefined],
    [{ cookie: secret }, "Cookie"],
  ])("A6: a page says nothing of it, and is for whoever opens it (%o)", async (headers, vary) => {
    const answer = () => json({ name: "Harebell" }, vary ? { ...fresh, vary } : fresh);
    const onServer = server(answer, { headers: () => headers });
    const page = openPage(createCache());
    const whose = onServer.api.source<any, any>(hut);
    await page.show(whose, id);
    const html = page.html();
    page.close();
    const block = JSON.parse(/<script[^>]*>(.*)<\/script>/.exec(html)?.[1] as string);
    expect(Object.values(block.entries[0].varies).filter(Boolean)).toEqual(["*"]);

    // In the browser: nobody is known yet, then Ada, then Bob.
    const { restoreWith } = await import("../src/core/features/storing/restoring.js");
    let token: string | undefined;
    const inBrowser = server(answer, { headers: () => (token ? { [Object.keys(headers)[0] as string]: token } : {}) });
    const own = inBrowser.api.source<any, any>(hut);
    const { cache, clock } = stage({ now: block.takenAt });
    restoreWith(cache, block, { isLive: true });
    const { view } = watch(cache, own, id);
    await clock.advance(0);
    expect([inShort(view.get()), inBrowser.seen.length]).toEqual(['ready {"name":"Harebell"}', 0]);
    token = "ada";
    expect(cache.peek(own, id).state).toBe("ready");
    token = "bob";
    expect(cache.peek(own, id).state).toBe("empty");
    // Such a one is not taken in from anywhere else.
    const { cache: other } = stage({ now: block.takenAt });
    restoreSnapshot(other, block);
    expect(other.peek(own, id).state).toBe("empty");
  });

  test("the stand-in for a token means nothing in another program", async () => {
    const make = () => whoServer({ headers: () => ({ authorization: secret }) }).api.source<any, string>(hut);
    const [whose, elsewhere] = [make(), make()];
    const { cache } = stage();
    await cache.read(whose, id);
    const snapshot = JSON.parse(JSON.stringify(takeSnapshot(cache)));
    expect(stage({ snapshot }).cache.peek(whose, id).state).toBe("ready");
    expect(stage({ snapshot }).cache.peek(elsewhere, id).state).toBe("empty");
  });
});

describe("a fleet", () => {
  test.each([null, "", Number.NaN, false, 7])("A7: %s is no partition", (partition) => {
    expect(() => createCache({ partition: partition as never })).toThrowError(
      expect.objectContaining({ code: "invalid-partition" }),
    );
  });

  test.each<[any, object, any]>([
    [{ "cache-control": "max-age=60" }, { headers: () => ({ "x-session": "anna" }) }, { for: "user" }],
    [{ "cache-control": "public, max-age=60" }, { headers: () => ({ "x-session": "anna" }) }, undefined],
    [
      { "cache-control": "max-age=60" },
      { headers: () => ({ traceparent: "00-1", "accept-language": "de" }) },
      undefined,
    ],
    [{ "cache-control": "max-age=60" }, { headers: { "x-api-key": "the server's own" } }, undefined],
    [{ "cache-control": "max-age=60" }, { user: () => "anna" }, { for: "user" }],
    [{ "cache-control": "max-age=60" }, { user: () => undefined, headers: () => ({ "x-any": "1" }) }, undefined],
    [{}, {}, { for: "user" }],
  ])("A8: for whom %o is, asked by %o", async (headers, options, expected) => {
    const { api } = server(() => json(1, headers), options);
    const whose = api.source<any, number>(hut);
    const cache = createCache();
    let shared: unknown;
    intercept(cache, {
      load: async (_, proceed) => {
        const came: any = await proceed();
        shared = came.details.shared;
        return came;
      },
    });
    await cache.read(whose, id);
    expect(shared).toEqual(expected);
  });
});
