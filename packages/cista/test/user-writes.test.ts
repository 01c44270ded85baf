import { composite, takeSnapshot } from "cista";
import { writeTo } from "cista/http";
import { describe, expect, test } from "vitest";
import { hut, id, json, server, whoServer } from "./hostile-server.js";
import { stage, watch } from "./stage.js";

// Rules F9, O9: a program puts values and runs writes, and another user signs in.

describe.each([
  ["named", true],
  ["by token", false],
])("a value that a program puts (%s)", (_, isNamed) => {
  const at = { user: "ada" };
  const setUp = () => {
    at.user = "ada";
    const { cache, clock } = stage();
    const { api, seen } = server(
      async (url, { headers }) => {
        const asked = headers.get("authorization");
        if (url.pathname === "/save") await new Promise<void>((resolve) => void clock.setTimer(() => resolve(), 50));
        const said = { "cache-control": "max-age=60", vary: "accept-language" };
        return json(url.pathname === "/save" ? "ada's answer" : asked, said);
      },
      {
        headers: () => ({ authorization: at.user, "accept-language": "en" }),
        ...(isNamed ? { user: () => at.user } : {}),
      },
    );
    const me = api.source<void, string>({ name: "me", url: "/me" });
    const other = api.source<void, string>({ name: "other", url: "/other" });
    const comes = (user: string) => {
      at.user = user;
      void cache.read(other, undefined, { cache: "no-cache" });
    };
    return { cache, clock, api, me, seen, comes };
  };

  test("F9: is for the present user", async () => {
    const { cache, clock, me, comes } = setUp();
    await cache.read(me);
    cache.put(me, undefined, "ada's change");
    const { view } = watch(cache, me);
    await clock.advance(0);
    expect(view.get().value).toBe("ada's change");
    comes("bob");
    await clock.advance(0);
    expect(view.get().value).toBe("bob");
  });

  test.each([
    ["that was loaded before", true],
    ["that was not loaded before", false],
  ])("F9: is for the present user, of a composite %s too", async (_, isLoaded) => {
    const { cache, clock, me, comes } = setUp();
    const hello = composite({ name: "hello", params: false, load: async (_, { read }) => `hello ${await read(me)}` });
    await (isLoaded ? cache.read(hello) : cache.read(me));
    cache.put(hello, undefined, "hello, my ada");
    const { view } = watch(cache, hello);
    await clock.advance(0);
    expect(view.get().value).toBe("hello, my ada");
    comes("bob");
    await clock.advance(0);
    expect(view.get().value).toBe("hello bob");
  });

  test.each([
    ["and another one has asked", true],
    ["and nobody has asked since", false],
  ])("F9: is not put by the answer of a write whose user has left, %s", async (_, hasAsked) => {
    const { cache, clock, api, me, comes } = setUp();
    const save = writeTo<void, string>(api, {
      name: "save",
      method: "PUT",
      url: "/save",
      onSuccess: (answer, _, cache) => cache.put(me, undefined, answer),
    });
    const { view } = watch(cache, me);
    await clock.advance(0);
    const saved = cache.run(save);
    await clock.advance(10);
    if (hasAsked) comes("bob");
    else at.user = "bob";
    await clock.advance(100);
    expect([await saved, await cache.read(me), view.get().value]).toEqual(["ada's answer", "bob", "bob"]);
    void cache.run(save); // bob's own
    await clock.advance(100);
    expect(view.get().value).toBe("ada's answer");
  });
});

test("F9: a patch does not change for whom a value is", async () => {
  const at = { token: "ada" };
  const { api } = server(() => json("all", { "cache-control": "public, max-age=60" }), {
    headers: () => ({ authorization: at.token }),
  });
  const open = api.source<void, string>({ name: "open", url: "/open" });
  const { cache } = stage();
  await cache.read(open);
  cache.at(open).patch((all) => `${all}, changed`);
  at.token = "bob";
  expect(cache.peek(open).value).toBe("all, changed");
});

test("F9: a value that is put before a token is known is for the first user who asks", async () => {
  const at = { user: "ada" };
  const { api, seen } = whoServer({ headers: async () => ({ authorization: at.user }) });
  const whose = api.source<any, string>(hut);
  const { cache, clock } = stage();
  cache.put(whose, id, "ada's change", { maxAge: 600 });
  const { view } = watch(cache, whose, id);
  const asks = async (other: string) => {
    void cache.read(whose, { id: other });
    await clock.advance(0);
  };
  await asks("a");
  expect([view.get().value, seen.length]).toEqual(["ada's change", 1]);
  expect(JSON.stringify(takeSnapshot(cache))).toContain('"~');
  at.user = "bob";
  await asks("b");
  expect(view.get().value).toBe("bob");
});

describe("O9: a write is not sent for another user, who has come", () => {
  const at = { user: "ada", isOnline: true, tokenTakes: 0, status: 204 };
  const ways = [
    ["while there was no network", { isOnline: false }, 0],
    ["while its token was fetched", { tokenTakes: 50 }, 0],
    ["while its token was renewed", { status: 401 }, 1],
    ["while it waited to be tried again", { status: 503 }, 1],
  ] as const;
  test.each(ways)("%s", async (_, first, tries) => {
    Object.assign(at, { user: "ada", isOnline: true, tokenTakes: 0, status: 204 }, first);
    const { cache, clock, environment } = stage();
    const pause = (ms: number) => new Promise<void>((resolve) => void clock.setTimer(() => resolve(), ms));
    const { api, seen } = server(() => new Response(null, { status: at.status }), {
      user: () => at.user,
      renew: () => pause(50),
      headers: async () => {
        if (at.tokenTakes > 0) await pause(at.tokenTakes);
        return { authorization: `of ${at.user}` };
      },
    });
    const save = writeTo<string, void>(api, {
      name: "save",
      method: "PUT",
      url: "/note",
      retry: { times: 3, firstPause: "1s" },
    });
    environment.set({ online: at.isOnline });
    const saved = cache.run(save, "fog").catch((thrown) => thrown);
    await clock.advance(25);
    Object.assign(at, { user: "bob", status: 204 });
    environment.set({ online: true });
    await clock.advance("5s");
    expect([seen.length, (await saved)?.kind]).toEqual([tries, "aborted"]);
  });
});
