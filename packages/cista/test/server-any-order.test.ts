import { type Cache, composite, createCache, Failure, type Source, source } from "cista";
import { receivePage } from "cista/browser";
import { virtualClock, virtualEnvironment } from "cista/rehearsal";
import { openPage } from "cista/server";
import { afterEach, test, vi } from "vitest";
import { Live } from "../src/binding/live.js";
import { renderingOf } from "../src/core/doors/page.js";
import { json, server } from "./hostile-server.js";
import { programsOf } from "./model/programs.js";
import { World } from "./tabs/world.js";

// One server for many visitors at once, in random programs: headers that are made late, loads that fail or never end, pages that
// are sent in pieces and closed at any time. Then each page is opened in a browser whose clock is hours off.

const { runs, seed, ran } = programsOf("server", 40, 15);
afterEach(() => vi.unstubAllGlobals());

const visitors = ["Wren", "Ash", "nobody"] as const;
interface Asked {
  readonly name: string;
  readonly of: Source<any, any>;
  readonly params: any;
}

/** What is on a page, and where it comes from. One for all visitors, as the modules of a server are. */
class Site {
  version = 1;
  readonly failing = new Set<string>();
  /** Requests that were made, by who asked and for what. */
  readonly requests: string[] = [];
  readonly open = new Set<AbortSignal>();
  readonly all: Asked[];

  constructor(
    readonly random: (below: number) => number,
    readonly pause: (most: number) => Promise<void>,
  ) {
    const { api } = server(
      async (url, { headers, signal }) => {
        const visitor = headers.get("authorization") ?? "nobody";
        this.requests.push(`${visitor} ${url.pathname}`);
        this.note(signal as AbortSignal);
        await this.pause(400);
        this.open.delete(signal as AbortSignal);
        if (this.failing.has(url.pathname)) return new Response("no", { status: 500 });
        if (url.pathname === "/gone") return json(null, {}, 404);
        const own = `${visitor}'s ${url.pathname} ${this.version}`;
        if (url.pathname === "/me") return json(own, { "cache-control": "private, max-age=60", vary: "authorization" });
        if (url.pathname === "/basket") return json(own, { "cache-control": "no-store" });
        const control = url.pathname === "/huts/1" ? "no-cache" : "public, max-age=60";
        return json(`${url.pathname} ${this.version}`, { "cache-control": control });
      },
      {
        headers: async ({ context }: { context: string }) => {
          await this.pause(50);
          if (this.failing.has("headers")) throw new Failure("load", "no token");
          return context === "nobody" ? {} : { authorization: context };
        },
      },
    );
    const plain = { retry: false } as const;
    const hut = api.source<number, string>({ ...plain, name: "hut", url: (id) => `/huts/${id}` });
    const me = api.source<void, string>({ ...plain, name: "me", url: "/me" });
    const basket = api.source<void, string>({ ...plain, name: "basket", url: "/basket" });
    const gone = api.source<void, string>({ ...plain, name: "gone", url: "/gone" });
    const route = composite({
      ...plain,
      name: "route",
      maxAge: "1h",
      params: false,
      load: async (_, { read }) => `${await read(me)}, ${await read(hut, 2)}`,
    });
    const noticed = (visitor: unknown, signal: AbortSignal) => {
      this.requests.push(`${visitor} /gauge`);
      this.note(signal);
    };
    const { version } = { version: () => this.version };
    const gauge = source({
      ...plain,
      name: "gauge",
      maxAge: "1h",
      params: false,
      load: async function* (_, { context, signal }) {
        noticed(context, signal);
        yield `gauge ${version()}`;
        await new Promise((resolve) => signal.addEventListener("abort", resolve));
      },
    });
    const never = source({
      ...plain,
      name: "never",
      params: false,
      load: async (_, { context, signal }) => {
        noticed(context, signal);
        return new Promise<string>(() => {});
      },
    });
    const named = (of: Source<any, any>, params?: unknown) => ({ name: of.name, of, params });
    this.all = [named(hut, 1), named(hut, 2), ...[me, basket, gone, route, gauge, never].map((of) => named(of))];
  }

  note(signal: AbortSignal): void {
    this.open.add(signal);
    signal.addEventListener("abort", () => this.open.delete(signal));
  }
}

function opened(site: Site, clock: World["clock"]) {
  const visitor = visitors[site.random(3)] as string;
  const options = { noStore: site.random(4) === 0, reusable: site.random(4) === 0, timeout: "5s" as const };
  const cache = createCache({ clock, context: visitor });
  const page = openPage(cache, options);
  const shown = new Map<string, any>();
  const sentAt = new Map<string, number>();
  const sent: string[] = [];
  const send = () => {
    const html = page.html();
    for (const text of textsIn(html))
      for (const { source, params } of JSON.parse(text).entries) sentAt.set(keyIn(source, params), clock.now());
    sent.push(html);
  };
  return {
    visitor,
    options,
    cache,
    page,
    shown,
    sent,
    sentAt,
    send,
    waits: [] as Promise<unknown>[],
    since: clock.now(),
  };
}
type Opened = ReturnType<typeof opened>;
const keyIn = (source: string, params: unknown) => `${source}${params === undefined ? "" : ` ${params}`}`;

const textsIn = (html: string) => [...html.matchAll(/<script[^>]*>(.*?)<\/script>/g)].map(([, text]) => text as string);
const insist = (law: string, holds: boolean, ...details: unknown[]) => {
  if (!holds) throw new Error(`${law}: ${details.map((each) => JSON.stringify(each)).join(" ")}`);
};

function look({ page, cache, shown, waits }: Opened, { of, params }: Asked, site: Site): void {
  const view = cache.view(of, params);
  const [asks, onServer] = [site.random(6) > 0, site.random(6) > 0];
  const before = site.requests.length;
  const seen = (reading: any) => {
    insist("H4: nothing fails on a server", reading.state !== "failed", reading);
    const first = shown.get(view.key);
    if (first) insist("H1: once on a page", first === reading, first, reading);
    shown.set(view.key, reading);
  };
  if (site.random(3) === 0) {
    waits.push(page.show(of as Source<any, any>, params).then(seen));
    return;
  }
  const found = renderingOf(cache)?.of(view, of, asks, onServer) as any;
  if (!asks)
    insist("H7: who starts nothing is empty", found.state === "empty" && site.requests.length === before, found);
  else if ("then" in found) waits.push(found);
  else seen(found);
}

/** What a page has sent is opened in its visitor's browser. */
async function receiveIn(
  { visitor, shown, sent, sentAt, options, since, page }: Opened,
  site: Site,
  serverClock: World["clock"],
) {
  const sentAs = site.random(2) ? visitor : visitors[site.random(3)];
  const reader = options.reusable ? (sentAs as string) : visitor;
  const blocks = textsIn(sent.join(""));
  const entries = blocks.flatMap((text) => JSON.parse(text).entries as any[]);
  const keys = new Set(entries.map(({ source, params }) => keyIn(source, params)));
  for (const other of visitors.filter((each) => each !== visitor || options.reusable))
    insist("H5: nobody else's on a page", !sent.join("").includes(`${other}'s`), other, sent);
  if (!options.noStore) insist("H5: nothing no-store", !keys.has("basket"), sent);
  for (const [key, { message }] of page.left)
    insist("H4: left for its own reason", key === "basket" || !message.includes("noStore"), key, message);
  class HTMLScriptElement {
    readonly type = "application/json";
    constructor(readonly textContent: string) {}
  }
  if (site.random(2)) blocks.splice(site.random(blocks.length + 1), 0, '{"broken');
  const elements = blocks.map((text) => new HTMLScriptElement(text));
  vi.stubGlobal("HTMLScriptElement", HTMLScriptElement);
  vi.stubGlobal("document", { readyState: "complete", getElementsByClassName: () => elements });
  const visit = 300;
  vi.stubGlobal("performance", { now: () => visit, getEntriesByType: () => [] });
  const clock = virtualClock(serverClock.now() + (site.random(9) - 4) * 3_600_000);
  const cache: Cache = createCache({ clock, environment: virtualEnvironment(), context: reader });
  await receivePage(cache);
  const own = site.requests.length;
  const order = [...site.all].sort(() => site.random(3) - 1);
  const brought = new Set<string>();
  const doubted = new Set<string>();
  const asOf = new Map(
    order.map(({ of, params }) => [cache.view(of, params).key, cache.peek<any, any>(of, params).asOf]),
  );
  for (const { of, params } of order) {
    const view = cache.view<any, any, any>(of, params);
    const { key } = view;
    const reading = renderingOf(cache)?.of(view, of, true) as any;
    const server = shown.get(key);
    if (keys.has(key) && server) {
      insist(
        "H1: as on the server",
        reading?.state === server.state && reading.value === server.value,
        key,
        server,
        reading,
      );
      brought.add(key);
      const age = serverClock.now() - server.asOf;
      if (!options.reusable) {
        const inBrowser = clock.now() - (asOf.get(key) ?? 0);
        const most = Math.max(visit, age) + (serverClock.now() - since);
        const least = (sentAt.get(key) ?? 0) - server.asOf;
        insist("H3: no older than the visit", inBrowser <= most && inBrowser >= least, key, inBrowser, least, most);
      }
      if (site.random(3) === 0 && key !== "gone") cache.put(of, params, `put before it is hydrated ${site.version}`);
      const live = new Live(() => ({ track() {}, trigger() {} }));
      const shownFirst = live.look("value", live.ask(cache, of, params, {}, true)).value;
      insist("H1: the first look of a live reading is the server's", shownFirst === server.value, key, shownFirst);
    }
    // Invalidated before a component comes: then it is asked for.
    if (site.random(5) === 0 && cache.invalidate({ source: of, params })) doubted.add(key);
    view.subscribe(() => {});
  }
  for (let turn = 0; turn < 9; turn++) await clock.advance(0);
  await site.pause(0);
  const isAsked = (name: string) => site.requests.slice(own).some((request) => request.endsWith(name));
  for (const [key, path] of [
    ["hut 2", "/huts/2"],
    ["me", "/me"],
    ["hut 1", "/huts/1"],
  ] as const) {
    const isPart = !brought.has("route") && key !== "hut 1";
    const isDoubted = doubted.has(key) || doubted.has("route");
    if (doubted.has(key)) insist("H2: what is invalidated is asked for", isAsked(path), key);
    if (brought.has(key) && !isPart && !isDoubted && !options.reusable)
      insist("H2: what has just come is not asked for", !isAsked(path), key);
    if (!keys.has(key)) insist("H4: what did not come is asked for", isAsked(path) || site.failing.has("headers"), key);
  }
  if (brought.has("gauge")) insist("H10: a stream is opened anew", isAsked("/gauge"));
  return { cache, clock, brought };
}

async function program(seed: number): Promise<void> {
  const world = new World(seed);
  const { clock } = world;
  const site = new Site(
    (below) => world.random(below),
    (most) => new Promise((resolve) => void clock.setTimer(() => resolve(), world.random(most + 1))),
  );
  const pages: Opened[] = [];
  const ended: Opened[] = [];
  const end = (one: Opened) => {
    if (site.random(4)) one.send();
    one.page.close();
    pages.splice(pages.indexOf(one), 1);
    ended.push(one);
  };
  for (let step = 0; step < 50; step++) {
    const one = pages[site.random(pages.length || 1)];
    const what = site.random(12);
    if (!one || what === 0) pages.push(opened(site, clock));
    else if (what < 7) look(one, site.all[site.random(site.all.length)] as Asked, site);
    else if (what === 7) one.send();
    else if (what === 8) site.version++;
    else if (what === 9) {
      const path = ["/me", "/huts/2", "headers"][site.random(3)] as string;
      if (!site.failing.delete(path)) site.failing.add(path);
    } else if (what === 10) end(one);
    await clock.advance(site.random(3) ? site.random(300) : site.random(3000));
  }
  for (const one of [...pages]) end(one);
  await clock.advance(0);
  for (const { waits } of ended) await Promise.all(waits); // H8: none is left waiting
  insist("H8: nothing outlives the page", site.open.size === 0, site.open.size);
  site.failing.clear();
  for (const one of ended) {
    const pausing = site.pause;
    Object.assign(site, { pause: async () => {} });
    const { cache, clock: browser, brought } = await receiveIn(one, site, clock);
    site.version++;
    // Half of the time only what the composite is made of: then it follows by its links alone.
    const parts = site.all.filter(({ name, params }) => name === "me" || params === 2);
    const route = site.all.find(({ name }) => name === "route") as Asked;
    const isPut = String(cache.peek<any, any>(route.of, undefined).value).startsWith("put"); // made of nothing
    const byParts = !isPut && site.random(2) === 0;
    if (byParts) for (const { of, params } of parts) cache.invalidate({ source: of, params });
    else cache.invalidate("all");
    for (let turn = 0; turn < 30; turn++) {
      await new Promise(setImmediate);
      await browser.advance(10);
    }
    for (const { of, params } of site.all) {
      const { key, state, value } = cache.view<any, any, any>(of, params).get();
      if (state !== "ready" || !brought.has(key) || (byParts && key !== "route")) continue;
      insist(
        "H10: an invalidated entry is asked for, composites by their dependencies",
        String(value).includes(` ${site.version}`),
        key,
        value,
      );
    }
    Object.assign(site, { pause: pausing });
    cache.dispose();
    vi.unstubAllGlobals();
  }
  await clock.advance("1h");
  insist("H8: no timer outlives the pages", clock.pendingTimers === 0, clock.pendingTimers);
}

test(`H1 to H10: in any order each visitor gets what is its own, once, and nothing is left (seed ${seed})`, {
  timeout: 3_600_000,
}, async () => {
  vi.spyOn(console, "warn").mockImplementation(() => {});
  for (let nth = 0; nth < runs; nth++) {
    ran(50);
    await program(seed + nth).catch((thrown) => {
      throw new Error(`PROVE_SEED=${seed + nth}: ${thrown.message}`, { cause: thrown });
    });
  }
  vi.restoreAllMocks();
});
