import { createCache, Failure, type Source, source } from "cista";
import { origin } from "cista/http";
import { openPage } from "cista/server";
import { describe, expect, test, vi } from "vitest";
import { renderingOf } from "../src/core/doors/page.js";
import { Edges } from "../src/server/edges.js";
import { betweenBursts, throughBursts } from "../src/server/streams.js";
import { json, server } from "./hostile-server.js";
import { heldSource, stage, watch } from "./stage.js";

test("H8: no wait is longer than the page's time, and none outlives it", async () => {
  const { cache, clock } = stage();
  const { source: hut, loads } = heldSource("hut");
  const page = openPage(cache, { timeout: "2s" });
  const late = page.show(hut, 1);
  await clock.advance("2s");
  expect(await late).toMatchObject({ state: "loading" });
  expect(page.left.get("hut 1")).toMatchObject({ kind: "timeout" });
  expect(await page.show(hut, 2)).toMatchObject({ state: "loading" });
  page.close();
  expect(loads[0]?.signal.aborted).toBe(true);
  expect(() => cache.peek(hut, 1)).toThrow("disposed");
  expect(clock.pendingTimers).toBe(0);
});

test("H8: a page waits for no pause between tries, and for no request that is held back: it says why, and leaves it", async () => {
  const { cache, clock } = stage();
  const refuse = async (): Promise<string> => {
    throw new Failure("network", "refused");
  };
  const refused = source({ name: "hut", load: refuse });
  const { source: scarce, loads } = heldSource("route", { requestBudget: { bursts: 1, per: "10s" } });
  const page = openPage(cache);
  const began = clock.now();
  const shown = page.show(refused);
  const first = page.show(scarce, 1);
  await clock.advance(0);
  const second = page.show(scarce, 2);
  await clock.advance(0);
  expect(await shown).toMatchObject({ state: "loading" });
  expect(await second).toMatchObject({ state: "loading" });
  expect(page.left.get("hut")).toMatchObject({ kind: "network", message: "refused" });
  expect(page.left.get("route 2")?.message).toMatch("requestBudget");
  loads[0]?.answer("up the fell");
  await clock.advance(0);
  expect(await first).toMatchObject({ state: "ready" });
  expect(clock.now()).toBe(began);
  page.close();
});

test("H7: a view that starts nothing is empty on a page; a page tells the freshness of its values", async () => {
  const fetch = async () => new Response('"Harebell"', { headers: { "cache-control": "max-age=60", age: "20" } });
  const hut = origin({ base: "https://huts.example", fetch: fetch as never }).source({ name: "hut", url: "/h" });
  const { cache } = stage();
  const page = openPage(cache, { reusable: true });
  expect(page.freshness()).toEqual({ maxAge: Number.POSITIVE_INFINITY, noStore: false, private: false });
  await page.show(hut);
  expect(page.freshness()).toEqual({ maxAge: 40_000, noStore: false, private: false });
  expect(page.html()).not.toContain('"live"');
  const { view } = watch(cache, hut, undefined, { when: false });
  const shown = renderingOf(cache)?.of(view, hut, false);
  expect(shown).toMatchObject({ state: "empty", key: "hut" });
  page.close();
});

test("H4: a loader shows a value before the components are rendered, and never rejects", async () => {
  const hut = source({
    name: "hut",
    retry: false,
    load: async (id: number) => {
      if (id === 2) throw new Failure("load", "The warden is away.");
      return "Harebell";
    },
  });
  const page = openPage(createCache());
  expect(await page.show(hut, 1)).toMatchObject({ state: "ready", value: "Harebell" });
  expect(await page.show(hut, 2)).toMatchObject({ state: "loading" });
  expect(page.html()).toContain('"value":"Harebell"');
  expect(page.html()).toBe("");
  expect(page.freshness()).toEqual({ maxAge: 0, noStore: false, private: false });
  page.close();
  page.close();
});

test.each([
  ["a BigInt", { count: 5n }],
  ["a Map", new Map([["h-07", 3]])],
  ["a Date", { opened: new Date(0) }],
  ["NaN", { water: Number.NaN }],
  ["a hole in a list", [undefined]],
  ["a class", new (class Hut {})()],
  ["a function", { open() {} }],
  ["a toJSON that throws", { toJSON: () => JSON.parse("{") }],
])("H5: %s is left to the browser, and the page brings the rest", async (_, value) => {
  const { cache } = stage();
  const page = openPage(cache);
  const odd = source({ name: "odd", maxAge: "1h", load: async () => value });
  const hut = source({
    name: "hut",
    maxAge: "1h",
    load: async () => ({ name: "Harebell", warden: undefined, drift: -0 }),
  });
  expect((await page.show(odd)).state).toBe("loading");
  expect((await page.show(hut)).state).toBe("ready");
  const sent = JSON.parse(page.json());
  expect(sent.entries.map((entry: { source: string }) => entry.source)).toEqual(["hut"]);
  expect(page.left.get("odd")?.message).toContain("no value of JSON");
  expect(page.cacheControl()).toBe("max-age=3600");
  page.close();
});

test("H5: a Date that the source's check makes of text is sent as that text", async () => {
  const { cache } = stage();
  const page = openPage(cache);
  const validate = ({ opened }: any) => ({ value: { opened: new Date(opened) } });
  const check = { "~standard": { version: 1 as const, vendor: "greyfell", validate } };
  const load = async () => ({ opened: "2026-05-01T00:00:00.000Z" });
  const hut: Source<void, any> = source({ name: "hut", maxAge: "1h", check, load }) as any;
  expect((await page.show(hut)).value.opened).toBeInstanceOf(Date);
  const browser = stage({ snapshot: JSON.parse(page.json()) });
  expect(browser.cache.peek(hut).value.opened).toEqual(new Date("2026-05-01"));
  page.close();
});

test("two users at once, a thousand requests: the values of one are never in the other's page", async () => {
  const basket = source({
    name: "basket",
    params: false,
    load: async (_, { context }) => {
      await new Promise(setImmediate); // the other's request comes in between
      return `nights of ${context}`;
    },
  });
  const walkers = ["Wren", "Ash"];
  const render = async (walker: string) => {
    const page = openPage(createCache({ context: walker }));
    await page.show(basket);
    const html = page.html();
    page.close();
    return walkers.filter((each) => html.includes(`nights of ${each}`));
  };
  const visits = Array.from({ length: 1000 }, (_, number) => walkers[number % 2] as string);
  expect(await Promise.all(visits.map(render))).toEqual(visits.map((walker) => [walker]));
});

test("one cache for two pages at once is warned of in development", () => {
  const warn = vi.spyOn(console, "warn").mockImplementation(() => {});
  const cache = createCache();
  const first = openPage(cache);
  expect(warn).not.toHaveBeenCalled();
  openPage(cache);
  expect(warn.mock.calls.map(String)).toEqual([expect.stringContaining("Make a cache for each request")]);
  first.close();
  warn.mockRestore();
});

test("H3: a value that a page shows early goes on ageing until the page is sent", async () => {
  const { cache, clock } = stage();
  const hut = source({ name: "hut", maxAge: "10s", load: async (id: number) => id });
  const page = openPage(cache);
  await page.show(hut, 1);
  await clock.advance("3s");
  await page.show(hut, 2);
  expect(page.freshness().maxAge).toBe(7000);
  const [, text = ""] = /<script[^>]*>(.*)<\/script>/.exec(page.html()) ?? [];
  const { takenAt, entries } = JSON.parse(text);
  expect(entries).toMatchObject([{ age: 3000, shownAt: takenAt - 3000 }, { age: 0 }]);
  page.close();
});

describe("H5: whose a page is", () => {
  const { api } = server((url) =>
    json(url.pathname, { "cache-control": url.pathname === "/me" ? "private, max-age=60" : "max-age=60" }),
  );
  const me = api.source<void, string>({ name: "me", url: "/me" });
  const huts = api.source<void, string>({ name: "huts", url: "/huts" });

  test("a private value makes the page private; a reusable page leaves it to the browser", async () => {
    const own = openPage(stage().cache);
    await own.show(huts);
    expect(own.cacheControl()).toBe("max-age=60");
    await own.show(me);
    expect([own.freshness().private, own.cacheControl()]).toEqual([true, "private, max-age=60"]);
    own.close();
    const forAll = openPage(stage().cache, { reusable: true });
    expect([(await forAll.show(me)).state, (await forAll.show(huts)).state]).toEqual(["loading", "ready"]);
    expect(forAll.left.get("me")?.message).toContain("for one user only");
    expect([forAll.cacheControl(), forAll.html().includes("/me")]).toEqual(["max-age=60", false]);
    forAll.close();
    const partitioned = openPage(stage({ partition: "ada" }).cache, { reusable: true });
    expect((await partitioned.show(huts)).state).toBe("loading");
    partitioned.close();
    const late = openPage(stage().cache);
    await late.show(source({ name: "fails", retry: false, load: async () => Promise.reject(new Error("no")) }));
    expect(late.cacheControl()).toBe("no-cache");
    late.close();
    expect(openPage(stage().cache, { noStore: true }).cacheControl()).toBe("no-store");
  });
});

test("H4: a page does not wait for a reading that is not for the server, and leaves it to the browser", () => {
  const { cache } = stage();
  const { source: slow, loads } = heldSource("slow");
  const page = openPage(cache);
  const view = cache.view(slow, 1);
  const rendering = renderingOf(cache);
  expect(rendering?.of(view, slow, true, false)).toMatchObject({ state: "loading", request: "running" });
  expect(rendering?.peek(view, slow, true, false)).toMatchObject({ state: "loading" });
  expect([loads.length, page.left.get("slow 1")?.message, page.freshness().maxAge]).toEqual([
    0,
    expect.stringContaining("onServer: false"),
    Number.POSITIVE_INFINITY,
  ]);
  page.close();
});

describe("H12: where a page's values may stand in its HTML", () => {
  const html =
    '<!doctype html><html><head><title>a > b</title><style>p > a {}</style></head><body><p title="a>b" class=x>1 < 2</p>' +
    "<!-- <p> --><svg><g></g></svg><script>if (a > b) x('<p>')</script><table><tr><td>é ✓</td></tr></table><svg/><br></body></html>";
  const allowed = (() => {
    const edges = new Edges();
    return Array.from(html).map((character) => {
      edges.pass(character);
      return edges.isAtEdge;
    });
  })();
  const behind = (text: string) => allowed[Array.from(html.slice(0, html.indexOf(text) + text.length)).length - 1];

  test("behind a tag; not within one, in a comment, in the text of an element, or in svg", () => {
    expect(
      ["class=x>", "</title>", "</p>", "-->", "</svg>", "</script>", "<td>", "</html>", "<svg/>"].map(behind),
    ).toEqual(Array(9).fill(true));
    expect(
      ['"a>', "<title>a >", "p >", "1 <", "<!-- <p>", "<svg>", "<g>", "</g>", "a >", "('<p>", "<td>é"].map(behind),
    ).toEqual(Array(11).fill(false));
  });

  test("a stream cut into any pieces has the values at their place, and nothing else is changed", async () => {
    const bytes = new TextEncoder().encode(html);
    for (const size of [1, 2, 7, 37, 1000]) {
      for (const put of [throughWeb, throughNode]) {
        const { out, ended } = await put(bytes, size);
        let at = 0;
        const parts = out.split("[VALUES]");
        expect(parts.join("")).toBe(html);
        for (const part of parts.slice(0, -1)) {
          at += Array.from(part).length;
          expect(allowed[at - 1]).toBe(true);
        }
        expect([parts.length > 1, ended]).toEqual([true, true]);
      }
    }
  });

  const turn = () => new Promise((resolve) => setTimeout(resolve, 1));
  async function throughWeb(bytes: Uint8Array, size: number) {
    let ended = false;
    const pieces = new ReadableStream<Uint8Array>({
      async start(controller) {
        for (let at = 0; at < bytes.length; at += size) {
          controller.enqueue(bytes.slice(at, at + size));
          if (at % (size * 5) === 0) await turn();
        }
        controller.close();
      },
    });
    const out = await new Response(
      throughBursts(
        pieces,
        () => "[VALUES]",
        () => (ended = true),
      ),
    ).text();
    return { out, ended };
  }
  async function throughNode(bytes: Uint8Array, size: number) {
    const written: Uint8Array[] = [];
    let ended = false;
    const encode = (chunk: any) => (typeof chunk === "string" ? new TextEncoder().encode(chunk) : chunk);
    const response = betweenBursts(
      { write: (chunk: any) => written.push(encode(chunk)), end: () => (ended = true) },
      () => "[VALUES]",
    );
    for (let at = 0; at < bytes.length; at += size) {
      response.write(bytes.slice(at, at + size));
      if (at % (size * 5) === 0) await turn();
    }
    response.end();
    return { out: new TextDecoder().decode(Buffer.concat(written)), ended };
  }
});
