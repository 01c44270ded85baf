import { entriesOf, type Source, source, takeSnapshot } from "cista";
import { eventsFrom, writeTo } from "cista/http";
import { describe, expect, test, vi } from "vitest";
import { fresh, hut, id, json, server, whoServer } from "./hostile-server.js";
import { inShort, stage, watch } from "./stage.js";

// Rule F9: the user changes while the cache is in use. Another user asks, and values are for the user before.

describe("another user asks, without a signOut", () => {
  test("F9: whatever is watched is asked for anew as soon as one request shows it", async () => {
    const at = { token: "ada" };
    const { api, seen } = whoServer({ headers: () => ({ authorization: at.token }) });
    const whose = api.source<any, string>(hut);
    const { cache, clock } = stage();
    const views = [1, 2, 3].map((each) => watch(cache, whose, { id: each }).view);
    await clock.advance(0);
    at.token = "bob";
    void cache.read(whose, { id: 9 });
    await clock.advance(0);
    expect(views.map((view) => view.get().value)).toEqual(["bob", "bob", "bob"]);
    expect(seen).toHaveLength(7);
  });

  test("F9: a user who is named is known before the token of the first request has come", async () => {
    const at = { user: "ada" };
    const { cache, clock } = stage();
    const { api } = server(() => json(at.user, fresh), {
      user: () => at.user,
      headers: async () => {
        await new Promise<void>((resolve) => void clock.setTimer(() => resolve(), 50));
        return { authorization: at.user };
      },
    });
    const whose = api.source<any, string>(hut);
    const { view } = watch(cache, whose, id);
    await clock.advance(50);
    expect(view.get().value).toBe("ada");
    at.user = "bob";
    void cache.read(whose, { id: 9 });
    await clock.advance(0);
    expect(inShort(view.get())).toBe("loading running");
    await clock.advance(50);
    expect(view.get().value).toBe("bob");
  });

  test("F9: a value of a named user is not shown to the next, where this page has requested nothing before", async () => {
    const at = { user: "ada" };
    const { api } = server(() => json(at.user, fresh), { user: () => at.user });
    const [me, other] = ["me", "other"].map((name) => api.source<void, string>({ name, url: `/${name}` })) as [
      Source<void, string>,
      Source<void, string>,
    ];
    const { cache, clock } = stage();
    cache.put(me, undefined, "ada's change");
    const { view } = watch(cache, me);
    expect(view.get().value).toBe("ada's change");
    at.user = "bob";
    void cache.read(other);
    await clock.advance(0);
    expect(view.get().value).toBe("bob");
  });

  test("F9: a new watcher is not shown another user's value; it is asked for past the caches on the way", async () => {
    const at = { token: "ada" };
    const { api, seen } = whoServer({ headers: () => ({ authorization: at.token }) });
    const whose = api.source<any, string>(hut);
    const { cache, clock } = stage();
    vi.stubGlobal("location", { origin: "https://page.example", href: "https://page.example/" });
    vi.stubGlobal("document", { baseURI: "https://page.example/" });
    watch(cache, whose, id);
    await clock.advance(0);
    at.token = "bob";
    const { view } = watch(cache, whose, id);
    expect(inShort(view.get())).toBe("loading running");
    await clock.advance(0);
    vi.unstubAllGlobals();
    expect([view.get().value, seen.map(({ init }) => init.cache)]).toEqual(["bob", ["no-cache", "reload"]]);
  });

  test("F9: the former user's pending change is lifted, and the new user's own first write is shown at once", async () => {
    const at = { token: "ada" };
    const answers: (() => void)[] = [];
    const { api } = server(
      async (_, { method }) => {
        if (method === "POST") await new Promise<void>((resolve) => answers.push(resolve));
        return method === "POST"
          ? new Response(null, { status: 204 })
          : json([], { "cache-control": "max-age=60, public" });
      },
      { headers: () => ({ authorization: at.token }) },
    );
    const rows = api.source<void, string[]>({ name: "rows", url: "/rows" });
    const add = writeTo<string, void>(api, {
      name: "add",
      method: "POST",
      url: "/added",
      optimistic: (row, edit) => edit.at(rows).patch((all) => [...all, row]),
    });
    const { cache, clock } = stage();
    const { view } = watch(cache, rows);
    await clock.advance(0);
    const first = cache.run(add, "of ada");
    await clock.advance(0);
    expect(view.get().value).toEqual(["of ada"]);
    at.token = "bob";
    const second = cache.run(add, "of bob");
    await clock.advance(0);
    expect(view.get().value).toEqual(["of bob"]);
    for (const answer of answers) answer();
    await Promise.all([first, second]);
  });

  test("F9: a request is of the user who signed in while its fields were made", async () => {
    const at = { user: "ada" };
    let made = () => {};
    const { api, seen } = whoServer({
      user: () => at.user,
      headers: async () => {
        const { user } = at;
        await new Promise<void>((resolve) => {
          made = resolve;
        });
        return { authorization: user };
      },
    });
    const { cache, clock } = stage();
    const read = cache.read(api.source<any, string>(hut), id);
    await clock.advance(0);
    at.user = "bob";
    made();
    await clock.advance(0);
    made();
    expect([await read, seen.length]).toEqual(["bob", 1]);
  });

  test("F9: a renewed token asks for nothing anew", async () => {
    const at = { token: "old" };
    const { api, seen } = whoServer({
      headers: () => ({ authorization: `Bearer ${at.token}` }),
      renew: async () => {
        at.token = "new";
      },
    });
    const whose = api.source<any, string>(hut);
    const { cache, clock } = stage();
    const views = [1, 2].map((each) => watch(cache, whose, { id: each }).view);
    await clock.advance(0);
    expect(views.map((view) => view.get().value)).toEqual(["Bearer new", "Bearer new"]);
    expect(seen).toHaveLength(4);
  });

  test("N5: an open event stream is opened anew for the new user", async () => {
    await import("../src/http/events.js"); // it comes in a file of its own
    const at = { token: "ada" };
    const streams: { who: string; send(data: string): void }[] = [];
    const connecting: Promise<void>[] = [];
    const { api } = server(
      async (_, { headers, signal }) => {
        if (headers.get("accept") !== "text/event-stream") return json("an answer");
        let send = (_: string) => {};
        const body = new ReadableStream({
          start(controller) {
            send = (data) => controller.enqueue(new TextEncoder().encode(`data: ${data}\n\n`));
            signal?.addEventListener("abort", () => controller.error(signal.reason));
          },
        });
        streams.push({ who: headers.get("authorization") ?? "", send });
        await connecting.shift();
        return new Response(body, { headers: { "content-type": "text/event-stream", "cache-control": "max-age=60" } });
      },
      { headers: () => ({ authorization: at.token }) },
    );
    const news = eventsFrom<any, string[]>(api, { ...hut, start: [], reduce: (all, { data }) => [...all, data] });
    const other = api.source<any, string>({ ...hut, name: "other" });
    const { cache, clock } = stage();
    const { view, seen: shown } = watch(cache, news, id);
    const settle = async () => {
      for (let round = 0; round < 5; round++) await clock.advance(0);
    };
    await settle();
    streams[0]?.send("for ada");
    await settle();
    expect(view.get().value).toEqual(["for ada"]);
    at.token = "bob";
    shown.length = 0;
    void cache.read(other, id);
    await settle();
    streams[1]?.send("for bob");
    await settle();
    expect(streams.map(({ who }) => who)).toEqual(["ada", "bob"]);
    expect(view.get().value).toEqual(["for bob"]);
    expect(shown.join()).not.toContain("ada");

    // Also one that is still being connected when the user changes.
    let connect = () => {};
    connecting.push(new Promise((resolve) => (connect = resolve)));
    cache.invalidate(news);
    await settle();
    at.token = "eve";
    void cache.read(other, { id: "h-08" });
    await settle();
    connect();
    await settle();
    streams.at(-1)?.send("for eve");
    await settle();
    expect([streams.map(({ who }) => who), view.get().value]).toEqual([["ada", "bob", "bob", "eve"], ["for eve"]]);
  });
});

describe("never `empty` and idle", () => {
  test("an answer for a user who has left is not shown, and asked for anew at once", async () => {
    let token = "ada";
    const waiting: (() => void)[] = [];
    const { api, seen } = server(
      (_, { headers }) =>
        new Promise((resolve) => waiting.push(() => resolve(json(headers.get("authorization"), fresh)))),
      { headers: () => ({ authorization: token }) },
    );
    const { cache, clock } = stage();
    const { view, seen: shown } = watch(cache, api.source<any, string>(hut), id);
    await clock.advance(0);
    token = "bob";
    waiting.shift()?.();
    await clock.advance(0);
    expect(inShort(view.get())).toBe("loading running");
    waiting.shift()?.();
    await clock.advance(0);
    expect([inShort(view.get()), seen.length]).toEqual(['ready "bob"', 2]);
    expect(shown.join()).not.toContain("ada");
  });

  test("a value that was watched when the user changed is asked for at the next look", async () => {
    let token = "ada";
    const { api } = whoServer(
      { headers: () => ({ authorization: token }) },
      { ...fresh, "cache-control": "max-age=60" },
    );
    const whose = api.source<any, string>({ ...hut, staleWhileRevalidate: "1h" });
    const { cache, clock } = stage();
    const { view } = watch(cache, whose, id);
    await clock.advance(0);
    token = "bob";
    await clock.advance("61s");
    expect(view.get().value).toBe("bob");
    token = "cleo";
    await clock.advance("61s");
    expect(view.get().value).toBe("cleo");
  });

  test.each(["reads", "watches"])(
    "two users one after the other in one request: the third, who %s, gets their own",
    async (how) => {
      let who = "ada";
      const answers: (() => void)[] = [];
      const { api } = server(
        (_, init) =>
          new Promise<Response>((resolve) => {
            const asked = init.headers.get("authorization");
            answers.push(() => resolve(json(asked, fresh)));
          }),
        { headers: () => ({ authorization: who }) },
      );
      const whose = api.source<any, string>(hut);
      const { cache, clock } = stage();
      const answer = async () => {
        answers.shift()?.();
        await clock.advance(10);
      };
      void cache.read(whose, { id: 1 });
      await clock.advance(10);
      who = "bob";
      await answer(); // ada's came, and bob is asked for
      who = "cy";
      const third = how === "reads" ? cache.read(whose, { id: 1 }) : undefined;
      const { view } = watch(cache, whose, { id: 1 });
      await answer();
      await answer();
      if (third) expect(await third).toBe("cy");
      expect(view.get()).toMatchObject({ state: "ready", value: "cy" });
    },
  );

  const changing = (definition: object = {}) => {
    let who = "ada";
    const answers: (() => void)[] = [];
    const { api, seen } = server(
      (_, init) =>
        new Promise<Response>((resolve) => {
          const asked = init.headers.get("authorization");
          answers.push(() => resolve(json(asked, fresh)));
        }),
      { headers: () => ({ authorization: who }), ...definition },
    );
    const { cache, clock } = stage();
    const answerTo = async (next: string) => {
      who = next;
      answers.shift()?.();
      await clock.advance(10);
    };
    return { whose: api.source<any, string>(hut), cache, clock, seen, answerTo };
  };

  test("a user who changes with each answer: a waiting read gets the last user's value", async () => {
    const { whose, cache, clock, answerTo } = changing();
    const read = cache.read(whose, id);
    await clock.advance(10);
    for (const next of ["bob", "cy", "dee", "dee"]) await answerTo(next);
    expect(await read).toBe("dee");
  });

  test("a user who changes more than five times in a row: a read in between has a request of its own", async () => {
    const { whose, cache, clock, answerTo } = changing();
    const first = cache.read(whose, id);
    first.catch(() => {});
    await clock.advance(10);
    for (let change = 1; change <= 5; change++) await answerTo(`user ${change}`);
    const late = cache.read(whose, id);
    await answerTo("user 6");
    await answerTo("user 6");
    expect(await late).toBe("user 6");
  });

  test("many users who change at rest are no users in a row: one who changes in a request is asked for", async () => {
    const { whose, cache, clock, answerTo } = changing();
    const { view } = watch(cache, whose, { id: 0 });
    await clock.advance(10);
    await answerTo("user 1");
    for (let change = 1; change <= 7; change++) {
      void cache.read(whose, { id: change }); // the first request of the new user: what is watched is asked for too
      await clock.advance(10);
      for (let answers = 0; answers < 4; answers++) await answerTo(`user ${change}`);
      expect(view.get().value).toBe(`user ${change}`);
      await answerTo(`user ${change + 1}`);
    }
    void cache.read(whose, { id: 8 });
    await clock.advance(10);
    await answerTo("user 8"); // of the read
    await answerTo("late"); // of what is watched, and the user has changed meanwhile
    for (let answers = 0; answers < 4; answers++) await answerTo("late");
    expect(view.get().value).toBe("late");
  });

  test("headers that say something else each time: two requests, and no loop", async () => {
    let count = 0;
    const { api, seen } = whoServer({ headers: () => ({ authorization: `Signature ${count++}` }) });
    const { cache, clock } = stage();
    watch(cache, api.source<any, string>(hut), id);
    await clock.advance("1m");
    expect(seen).toHaveLength(2);
    const said = whoServer({ headers: () => ({ authorization: `Signature ${count++}` }), user: () => "ada" });
    const { view } = watch(cache, said.api.source<any, string>({ ...hut, name: "said" }), id);
    await clock.advance("1m");
    expect([view.get().state, said.seen.length]).toEqual(["ready", 1]);
  });

  test("headers that throw: nothing is held, nothing throws but the request", async () => {
    let token: string | undefined = "ada";
    const { api } = whoServer({
      headers: () => {
        if (!token) throw new Error("not signed in");
        return { authorization: token };
      },
    });
    const whose = api.source<any, string>({ ...hut, retry: false });
    const { cache, clock } = stage();
    await cache.read(whose, id);
    const other = source({ name: "other", maxAge: "1h", load: async () => Math.random() });
    await cache.read(other);
    token = undefined;
    expect(cache.peek(whose, id).state).toBe("empty");
    expect([...entriesOf(cache)].length).toBe(2);
    expect(takeSnapshot(cache).entries).toHaveLength(1);
    const { view } = watch(cache, whose, id);
    await clock.advance(0);
    expect(inShort(view.get())).toBe("failed (load)");
    expect(cache.invalidate("all")).toBe(2);
  });
});
