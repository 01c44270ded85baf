import { createCache, type Snapshot, takeSnapshot } from "cista";
import { appendPage, pagesFrom } from "cista/http";
import { virtualClock, virtualEnvironment } from "cista/rehearsal";
import fc from "fast-check";
import { expect, test, vi } from "vitest";
import { restoreWith } from "../src/core/features/storing/restoring.js";
import { base, json, server } from "./hostile-server.js";
import { ways } from "./model/accounts.js";
import { isQuick, programsOf } from "./model/programs.js";
import { step } from "./model/user-steps.js";
import { World } from "./model/users.js";

// Rule F9 in one page, in random programs beside a small model of who asks: nobody is shown another's; and of each change of
// user, renewed token and new token it is known exactly what has to be requested, and how.

const { runs, seed, ran } = programsOf("users", 250, 5);

test("F9, H2: values that a page brought for a user who has left take no room", async () => {
  const at = { token: "ada" };
  const { api } = server(() => json("an answer"), { headers: () => ({ authorization: at.token }) });
  const small = createCache({ clock: virtualClock(1e12), environment: virtualEnvironment(), capacity: 2 });
  const pageOf = (varies?: object) => {
    const { entries: _, ...snapshot } = takeSnapshot(small);
    const more = varies ? { varies } : {};
    const entry = (params: number) => ({
      source: "brought",
      params,
      kind: "value",
      value: "a page's",
      age: 0,
      maxAge: 60_000,
      ...more,
    });
    const common = { staleWhileRevalidate: 0, staleIfError: 0 };
    return { ...snapshot, entries: [1, 2].map((id) => ({ ...entry(id), ...common })) } as unknown as Snapshot;
  };
  restoreWith(small, pageOf({ authorization: "*" }), { isLive: true });
  const other = api.source<number, string>({ name: "other", url: (id) => `/other/${id}` });
  for (const who of ["ada", "bob"]) {
    at.token = who;
    await small.read(other, 1, { cache: "reload" });
  }
  restoreWith(small, pageOf(), { isLive: true });
  const brought = api.source<number, string>({ name: "brought", url: (id) => `/brought/${id}` });
  expect([1, 2].map((id) => small.peek(brought, id).value)).toContain("a page's");
});

test("F9, H2: a page's value that one user has looked at is requested for the next, whose request is the first", async () => {
  const at = { token: "ada" };
  const { api, seen } = server((_, { headers }) => json(headers.get("authorization")), {
    headers: () => ({ authorization: at.token }),
  });
  const clock = virtualClock(1e12);
  const cache = createCache({ clock, environment: virtualEnvironment() });
  const entry = { source: "me", kind: "value", value: "ada", age: 0, maxAge: 60_000, varies: { authorization: "*" } };
  const entries = [{ ...entry, staleWhileRevalidate: null, staleIfError: null }];
  restoreWith(cache, { ...takeSnapshot(cache), entries }, { isLive: true });
  const me = api.source<void, string>({ name: "me", url: "/me" });
  const view = cache.view(me);
  view.subscribe(() => {});
  expect([view.get().value, seen.length]).toEqual(["ada", 0]);
  at.token = "bob";
  await cache.read(api.source<void, string>({ name: "other", url: "/other" }));
  await clock.advance(10);
  expect(view.get().value).toBe("bob");
});

test("F9: a page of a list is requested twice at most, where each request is another user's", async () => {
  let count = 0;
  const { api, seen } = server(
    (url) => {
      if (count > 20) throw new TypeError("asked for without end");
      const more = url.pathname.endsWith("/2") ? {} : { link: `<${url.pathname}/2>; rel="next"` };
      return json([{ id: url.pathname }], { "cache-control": more.link ? "public, max-age=60" : "private", ...more });
    },
    { headers: () => ({ authorization: `Signature ${++count}` }) },
  );
  const list = pagesFrom<void, { id: string }>(api, { name: "list", url: "/list", retry: false });
  const clock = virtualClock(1e12);
  const cache = createCache({ clock, environment: virtualEnvironment() });
  const { items } = await cache.read(list);
  await appendPage(cache, list);
  expect([items.length, cache.peek(list).value]).toEqual([1, undefined]); // with the page it is for a user who never asks again
  expect(seen.filter(({ url }) => url.endsWith("/2")).length).toBeLessThanOrEqual(2); // unsteady: once more
});

test(`F9: random programs of one page, in which the user changes in any way (seed ${seed})`, {
  timeout: 3_600_000,
}, async () => {
  await import("../src/http/events.js"); // it comes in a file of its own
  const warn = vi.spyOn(console, "warn").mockReturnValue(undefined); // of headers that differ each time
  const pages = fc.record({
    way: fc.constantFrom(...ways),
    isElsewhere: fc.boolean(),
    isFromServer: fc.constantFrom(false, false, true),
    isAnonymous: fc.boolean(),
    asksFirst: fc.boolean(),
    looksAfter: fc.nat(5),
  });
  const property = fc.asyncProperty(pages, fc.array(step, { minLength: 3, maxLength: 25 }), async (page, steps) => {
    ran(steps.length);
    if (page.isElsewhere) {
      vi.stubGlobal("location", { origin: "https://page.example", href: "https://page.example/" });
      vi.stubGlobal("document", { baseURI: `${base}/` });
    }
    const world = new World(page, virtualClock(1e12));
    try {
      await world.receive();
      if (page.asksFirst || page.way.startsWith("late")) await world.beKnown();
      for (const each of steps) await world.take(each);
      await world.beKnown();
      await world.checkRest();
    } finally {
      world.cache.dispose();
      vi.unstubAllGlobals();
    }
  });
  await fc.assert(property, { numRuns: runs, seed, endOnFailure: isQuick });
  warn.mockRestore();
  expect(runs).toBeGreaterThan(0);
});
