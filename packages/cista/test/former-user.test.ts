import { composite, type Source } from "cista";
import { describe, expect, test, vi } from "vitest";
import { json, server } from "./hostile-server.js";
import { inShort, stage, watch } from "./stage.js";

// Rule F9: a failure, and a value that stands in for another, were the former user's too.

// Ada may not see the wages, and nobody may who has not signed in.

function wages(first: string) {
  const at = { token: first };
  const { cache, clock } = stage();
  const { api, seen } = server(
    async (url, { headers }) => {
      const who = headers.get("authorization") ?? "";
      await new Promise<void>((resolve) => void clock.setTimer(() => resolve(), 10));
      if (url.pathname !== "/me" && who !== "bob") return json({ who }, {}, who ? 403 : 401);
      return json(who, { "cache-control": "private, max-age=600" });
    },
    { headers: () => (at.token ? { authorization: at.token } : {}) },
  );
  const me = api.source<number, string>({ name: "me", url: (nth) => `/me?${nth}` });
  const paid = api.source<number, string>({ name: "wages", url: (year) => `/wages/${year}` });
  let nth = 0;
  const asks = (token: string) => {
    at.token = token;
    return cache.read(me, ++nth);
  };
  const requested = () => seen.filter(({ url }) => url.includes("/wages"));
  return { at, cache, clock, api, paid, asks, requested };
}

const twice = (paid: Source<number, string>) =>
  composite({
    name: "twice",
    maxAge: "1h",
    load: async (year: number, { read }) => `${await read(paid, year)} and ${await read(paid, year)}`,
  });

describe("what the former user was refused", () => {
  test.each(["ada", ""])("F9: is requested for the next user, where it is watched (before: %j)", async (before) => {
    const { cache, clock, paid, asks, requested } = wages(before);
    void asks(before);
    const { view } = watch(cache, paid, 2026);
    await clock.advance(10);
    expect(inShort(view.get())).toBe("failed (http)");
    void asks("bob");
    await clock.advance(0);
    expect(view.get()).toMatchObject({ state: "loading", failure: undefined });
    await clock.advance(10);
    expect([view.get().value, requested().length]).toEqual(["bob", 2]);
  });

  test("F9: is shown to nobody else, where it is not watched", async () => {
    const { cache, clock, paid, asks, requested } = wages("ada");
    void asks("ada");
    cache.read(paid, 2026).catch(() => {});
    await clock.advance(10);
    expect(cache.peek(paid, 2026).state).toBe("failed");
    void asks("bob");
    await clock.advance(10);
    expect([cache.peek(paid, 2026).state, requested().length]).toEqual(["empty", 1]);
  });

  test("F9: is requested past the caches on the way", async () => {
    const { cache, clock, paid, asks, requested } = wages("ada");
    vi.stubGlobal("location", { origin: "https://page.example", href: "https://page.example/" });
    vi.stubGlobal("document", { baseURI: "https://page.example/" });
    void asks("ada");
    watch(cache, paid, 2026);
    await clock.advance(10);
    void asks("bob");
    await clock.advance(10);
    vi.unstubAllGlobals();
    expect(requested().map(({ init }) => init.cache)).toEqual(["no-cache", "reload"]);
  });

  test("F9: is requested again, and told to nobody, where the next user came while it was under way", async () => {
    const { cache, clock, paid, asks, requested } = wages("ada");
    const told = vi.fn();
    cache.onFailure(told);
    void asks("ada");
    const read = cache.read(paid, 2026);
    const { view } = watch(cache, paid, 2026);
    await clock.advance(5);
    void asks("bob");
    await clock.advance(5);
    expect(view.get()).toMatchObject({ state: "loading", failure: undefined });
    await clock.advance(10);
    expect([await read, view.get().value, requested().length, told.mock.calls.length]).toEqual(["bob", "bob", 2, 0]);
  });

  test("F9: is requested once where the refused request itself is the first of the new user", async () => {
    const { at, cache, clock, paid, asks, requested } = wages("bob");
    void asks("bob");
    await clock.advance(10);
    at.token = "ada";
    const { view } = watch(cache, twice(paid), 2026);
    await clock.advance("1m");
    expect([inShort(view.get()), requested().length]).toEqual(["failed (http)", 1]);
  });

  test("F9: is requested no more where a later try was the new user's, past the caches on the way", async () => {
    vi.stubGlobal("location", { origin: "https://page.example", href: "https://page.example/" });
    vi.stubGlobal("document", { baseURI: "https://page.example/" });
    const { cache, clock, api, asks, requested } = wages("ada");
    const paid = api.source<number, string>({
      name: "tried",
      url: "/wages",
      retry: { times: 1, shouldRetry: () => true },
    });
    void asks("ada");
    watch(cache, paid, 2026);
    await clock.advance(5);
    void asks("cy");
    await clock.advance("1m");
    vi.unstubAllGlobals();
    const tries = requested().map(({ headers, init }) => `${headers.get("authorization")} ${init.cache}`);
    expect(tries).toEqual(["ada no-cache", "cy reload"]);
  });

  test("F9: is requested for the next user through a composite of it, which is loaded once more", async () => {
    const { cache, clock, paid, asks, requested } = wages("ada");
    void asks("ada");
    const { view } = watch(cache, twice(paid), 2026);
    await clock.advance(10);
    expect(inShort(view.get())).toBe("failed (http)");
    void asks("bob");
    await clock.advance(10);
    expect([view.get().value, requested().length]).toEqual(["bob and bob", 2]);
    void asks("ada");
    await clock.advance(10);
    expect([inShort(view.get()), requested().length]).toEqual(["failed (http)", 3]);
  });

  test("F9: is requested twice at most, where two looks at the headers differ from each other", async () => {
    let count = 0;
    const { cache, clock } = stage();
    const { api, seen } = server(() => json({}, {}, 403), {
      headers: () => ({ authorization: `Signature ${++count}` }),
    });
    const paid = api.source<number, string>({ name: "wages", url: (year) => `/wages/${year}` });
    for (const year of [2024, 2025, 2026]) watch(cache, paid, year);
    await clock.advance("1h");
    seen.length = 0;
    cache.read(paid, 2023).catch(() => {});
    await clock.advance("1h");
    expect(seen.length).toBeLessThanOrEqual(2 * 4);
  });
});

describe("what stands in for a value while it is on its way", () => {
  /** Each row is answered once; a second request waits for good. */
  function rowsAndRow(first = "ada") {
    const at = { token: first };
    const answered = new Set<string>();
    const { api } = server(
      async (url, { headers }) => {
        if (answered.has(url.pathname) && url.pathname.startsWith("/row/")) await new Promise(() => {});
        answered.add(url.pathname);
        return json(headers.get("authorization") ?? "nobody", { "cache-control": "private, max-age=60" });
      },
      { headers: () => (at.token ? { authorization: at.token } : {}) },
    );
    const rows = api.source<void, string>({ name: "rows", url: "/rows" });
    const row = api.source<number, string>({
      name: "row",
      url: (nth) => `/row/${nth}`,
      standIn: (_, cache) => cache.peek(rows).value,
    });
    const other = api.source<number, string>({ name: "other", url: (nth) => `/other/${nth}` });
    const { cache } = stage();
    let nth = 0;
    const asks = (token: string) => {
      at.token = token;
      return cache.read(other, ++nth);
    };
    return { at, cache, rows, row, asks };
  }

  test.each(["ada", ""])("F9: is made anew for another user (before: %j)", async (before) => {
    const { cache, rows, row, asks } = rowsAndRow(before);
    await asks(before);
    await cache.read(rows);
    await cache.read(row, 1);
    cache.delete({ source: row });
    const { view } = watch(cache, row, 1);
    expect(view.get()).toMatchObject({ state: "loading", value: before || "nobody", provisional: "stand-in" });
    await asks("bob");
    expect(view.get()).toMatchObject({ state: "loading", value: undefined });
  });

  test("F9: is shown no longer, where the user is back whose value is held", async () => {
    const { at, cache, rows, row, asks } = rowsAndRow();
    at.token = "bob";
    await cache.read(rows);
    at.token = "ada";
    await cache.read(row, 1);
    const { view } = watch(cache, row, 1);
    await asks("bob");
    expect(view.get()).toMatchObject({ state: "loading", value: "bob", provisional: "stand-in" });
    await asks("ada");
    expect(view.get()).toMatchObject({ state: "ready", value: "ada" });
  });
});

test("F9: a developer is told once that two looks at the headers differ from each other, and no value is shown", async () => {
  const warn = vi.spyOn(console, "warn").mockReturnValue(undefined);
  let count = 0;
  const { cache, clock } = stage();
  const { api } = server(() => json("a value"), { headers: () => ({ authorization: `Signature ${++count}` }) });
  const me = api.source<number, string>({ name: "me", url: (nth) => `/me/${nth}` });
  const views = [1, 2].map((nth) => watch(cache, me, nth).view);
  await clock.advance("1s");
  const told = warn.mock.calls.map(String);
  warn.mockRestore();
  expect(views.map((view) => inShort(view.get()))).toEqual(["empty", "empty"]);
  expect(told).toEqual([expect.stringMatching(/headers of me 1 .* are others each time.*origin\(\{ user/)]);
});
