import { type Failure, restoreSnapshot, type Source, takeSnapshot } from "cista";
import { appendPage, origin, type Pages, pagesFrom, prependPage, writeTo } from "cista/http";
import fc from "fast-check";
import { expect, test } from "vitest";
import { isQuick, programsOf } from "./model/programs.js";
import type { Tab } from "./tabs/tab.js";
import { World } from "./tabs/world.js";

// A list in pages that is watched, added to at both ends, written to, invalidated, restored and asked for by another user, in one
// page or two joined tabs, in any order: no item is shown twice, none of another user, and at rest the list is a part of the
// server's.

const { runs, seed, ran } = programsOf("lists", 200, 4);

interface Row {
  readonly id: string;
  readonly of: string;
}
type By = "number" | "cursor";
const latency = 10;
/** By then all is answered, for whichever tab has to ask first. */
const soon = 400;

/** A server with a list for each of two users, in pages. */
class Server {
  readonly world: World;
  readonly rows: Record<string, Row[]> = { wren: [], osk: [] };
  isFailing = false;
  made = 0;
  asked = 0;
  readonly size: number;
  /** Which page a list begins with. */
  readonly start: number;
  readonly #by: By;
  readonly #tags: boolean;

  constructor(world: World, { size, by, tags, start }: Settings) {
    this.world = world;
    this.size = size;
    this.start = start;
    this.#by = by;
    this.#tags = tags;
    for (const of of ["wren", "osk"]) for (let at = 0; at < 9; at++) this.rows[of]?.push(this.newRow(of));
  }

  newRow(of: string): Row {
    return { id: `${of}-${this.made++}`, of };
  }

  #pause(ms: number): Promise<void> {
    return new Promise((resolve) => this.world.clock.setTimer(() => resolve(), ms));
  }

  async answer(request: Request): Promise<Response> {
    if (++this.asked > 5000) throw new Error("it is asked for again and again");
    const of = request.headers.get("authorization")?.slice("Bearer ".length) as string;
    await this.#pause(latency / 2);
    const response = this.isFailing ? new Response(null, { status: 500 }) : await this.#process(request, of);
    await this.#pause(latency / 2);
    return response;
  }

  async #process(request: Request, of: string): Promise<Response> {
    const rows = this.rows[of] as Row[];
    if (request.url.endsWith("/removed")) {
      const { id } = (await request.json()) as Row;
      this.rows[of] = rows.filter((row) => row.id !== id);
      return new Response(null, { status: 204 });
    }
    if (request.method === "POST") {
      rows.unshift((await request.json()) as Row);
      return new Response(null, { status: 204 });
    }
    const { searchParams, pathname } = new URL(request.url);
    if (pathname === "/me") return Response.json(of);
    const page = Number(searchParams.get("page") ?? 0);
    const after = searchParams.get("after");
    const from = this.#by === "number" ? page * this.size : rows.findIndex(({ id }) => id === after) + 1;
    const own = rows.slice(from, from + this.size);
    const next = this.#by === "number" ? `/notes?page=${page + 1}` : `/notes?after=${own.at(-1)?.id}`;
    const body = JSON.stringify({
      rows: own,
      ...(from + this.size < rows.length ? { next } : {}),
      ...(page > 0 ? { previous: `/notes?page=${page - 1}` } : {}),
    });
    const etag = `"${body.replaceAll('"', "'")}"`;
    if (!this.#tags) return new Response(body);
    if (request.headers.get("if-none-match") === etag) return new Response(null, { status: 304, headers: { etag } });
    return new Response(body, { headers: { etag } });
  }

  /** Nobody is told, as where another device has done it. */
  change(user: string, how: "add" | "remove" | "raise", at: number): void {
    const rows = this.rows[user] as Row[];
    if (how === "add") rows.unshift(this.newRow(user));
    else {
      const [row] = rows.splice(at % rows.length, 1);
      if (how === "raise" && row) rows.unshift(row);
    }
  }
}

/** A page that shows its user's list. */
class Page {
  readonly server: Server;
  readonly tab: Tab;
  readonly failures: unknown[] = [];
  user = "wren";
  readonly list: Source<void, Pages<Row>>;
  readonly me: Source<number, unknown>;
  readonly add;
  readonly remove;
  leave: (() => void) | undefined;

  readonly isNamed: boolean;

  constructor(server: Server, tab: Tab, isNamed: boolean) {
    this.isNamed = isNamed;
    this.server = server;
    this.tab = tab;
    const api = origin({
      base: "https://huts.example",
      headers: () => ({ authorization: `Bearer ${this.user}` }),
      ...(isNamed ? { user: () => this.user } : {}), // without it the lists are each tab's own
      fetch: ((url: URL, init: RequestInit) => server.answer(new Request(url, init))) as typeof fetch,
    });
    this.list = pagesFrom<void, Row>(api, {
      name: "notes",
      url: server.start > 0 ? `/notes?page=${server.start}` : "/notes",
      maxAge: "1s",
      staleWhileRevalidate: "1s",
      retry: false,
      requestBudget: false,
      unwrap: (body) => body.rows,
      next: (body) => body.next,
      previous: (body) => body.previous,
    }) as Source<void, Pages<Row>>;
    this.me = api.source<number, unknown>({ name: "me", url: () => "/me", retry: false, requestBudget: false });
    this.add = writeTo<Row, void>(api, {
      name: "add",
      method: "POST",
      url: "/notes",
      optimistic: (row, edit) =>
        edit.at(this.list).patch((pages) => ({
          ...pages,
          count: pages.count + 1,
          items: pages.items.some(({ id }) => id === row.id) ? pages.items : [row, ...pages.items],
        })),
    });
    this.remove = writeTo<Row, void>(api, {
      name: "remove",
      method: "POST",
      url: "/notes/removed",
      optimistic: (row, edit) =>
        edit.at(this.list).patch((pages) => {
          const items = pages.items.filter(({ id }) => id !== row.id);
          return { ...pages, count: items.length, items };
        }),
    });
  }

  rowsOfUser(): Row[] {
    return this.server.rows[this.user] as Row[];
  }

  async take({ kind, at }: Step): Promise<void> {
    const { server } = this;
    const { cache, environment, world } = this.tab;
    const note = (thrown: Failure) => void this.failures.push(thrown);
    if (kind === "watch") {
      this.leave?.();
      this.leave = this.leave ? undefined : cache.view(this.list).subscribe(() => this.check());
    } else if (kind === "append") appendPage(cache, this.list).catch(note);
    else if (kind === "prepend") prependPage(cache, this.list).catch(note);
    else if (kind === "revalidate") void cache.view(this.list, undefined, { when: false }).revalidate();
    else if (kind === "invalidate") cache.invalidate(this.list);
    else if (kind === "write") cache.run(this.add, server.newRow(this.user)).catch(note);
    else if (kind === "delete") {
      const rows = this.rowsOfUser();
      cache.run(this.remove, rows[at % rows.length] as Row).catch(note);
    } else if (kind === "restore") {
      const snapshot = JSON.parse(JSON.stringify(takeSnapshot(cache)));
      await world.clock.advance(at * 5);
      cache.delete(this.list);
      restoreSnapshot(cache, snapshot);
    } else if (kind === "fail") server.isFailing = !server.isFailing;
    else if (kind === "user") {
      // Without a `user` the users of a write are not compared: one that waits for the network is sent for whoever asks then.
      if (!this.isNamed && !environment.online) return;
      environment.set({ online: true }); // nobody signs in without a network
      this.user = this.user === "wren" ? "osk" : "wren";
      cache.read(this.me, ++server.made).catch(note); // a page asks something of its new user at once
      await world.clock.advance(0);
    } else if (kind === "pass") await world.clock.advance(at * 5);
    else if (kind === "network") environment.set({ online: !environment.online });
    else if (kind === "jump") world.offset += (at - 2) * 30_000;
    else if (kind === "age") await world.clock.advance(at * 250);
    else server.change(this.user, kind, at);
    this.check();
  }

  shown(): Pages<Row> | undefined {
    return this.tab.cache.view(this.list, undefined, { when: false }).get().value;
  }

  /** What holds at any time, of what is shown to the present user. */
  check(): void {
    const items = this.shown()?.items ?? [];
    const ids = items.map(({ id }) => id);
    if (new Set(ids).size < ids.length) throw new Error(`an item is shown twice: ${ids}`);
    if (new Set(items.map(({ of }) => of)).size > 1) throw new Error(`one list of two users: ${ids}`);
    if (items.length > 0 && items[0]?.of !== this.user) throw new Error(`${this.user} is shown ${ids}`);
  }

  /** The list is the part of the server's that its pages say. */
  checkAtRest(): void {
    const { size, start } = this.server;
    const rows = this.rowsOfUser().map(({ id }) => id);
    const pages = this.shown();
    const ids = pages?.items.map(({ id }) => id) ?? [];
    const first = Number(new URL(pages?.pages[0]?.url ?? "", "https://huts.example").searchParams.get("page") ?? 0);
    expect(first).toBeLessThanOrEqual(start);
    expect(ids).toEqual(rows.slice(first * size, first * size + ids.length));
    expect(ids.length).toBeGreaterThanOrEqual(Math.min(size, Math.max(0, rows.length - first * size)));
    expect(pages?.hasNext).toBe(first * size + ids.length < rows.length);
    expect(pages?.hasPrevious).toBe(first > 0);
  }
}

async function rest(server: Server, pages: readonly Page[]): Promise<void> {
  const { clock } = server.world;
  server.isFailing = false;
  for (const page of pages) {
    page.tab.environment.set({ online: true });
    page.leave ??= page.tab.cache.view(page.list).subscribe(() => {});
  }
  await clock.advance(soon);
  // All loaded pages are looked at: what moved further behind is seen only so.
  for (const { tab, list } of pages) tab.cache.invalidate(list);
  await clock.advance(soon);
  const { asked } = server;
  for (const page of pages) page.checkAtRest();
  await clock.advance(500);
  expect(server.asked).toBe(asked);
  const [first] = pages as [Page];
  const areOfOne = first.isNamed && new Set(pages.map(({ user }) => user)).size === 1;
  if (areOfOne) {
    const loaded = Math.max(...pages.map((page) => page.shown()?.pages.length ?? 1));
    first.tab.cache.invalidate(first.list);
    await clock.advance(soon);
    expect(server.asked - asked).toBeLessThanOrEqual(loaded);
    for (const page of pages) page.checkAtRest();
  }
  for (const page of pages) {
    const { cache } = page.tab;
    const rows = page.rowsOfUser();
    for (let count = 0; count < 2 * rows.length; count++) {
      const shown = page.shown();
      const add = shown?.hasNext ? appendPage : shown?.hasPrevious ? prependPage : undefined;
      if (!add) break;
      let isHere = false;
      void add(cache, page.list).then(() => {
        isHere = true;
      });
      await clock.advance(1000);
      expect(isHere).toBe(true);
    }
    expect(page.shown()?.items).toEqual(rows);
  }
}

/** What stands here more than once comes more often. */
const kinds = [
  ...(["append", "append", "append", "prepend", "write", "write", "delete", "pass", "pass", "pass"] as const),
  ...(["watch", "revalidate", "invalidate", "restore", "fail", "user", "network", "jump", "age"] as const),
  ...(["add", "remove", "raise"] as const),
];
type Step = { kind: (typeof kinds)[number]; at: number; tab: number };
const steps = fc.array(fc.record({ kind: fc.constantFrom(...kinds), at: fc.nat(8), tab: fc.nat(1) }), {
  minLength: 1,
  maxLength: 25,
});
interface Settings {
  readonly size: number;
  readonly by: By;
  readonly tags: boolean;
  readonly start: number;
}
const settings = fc.oneof(
  fc.record({ by: fc.constantFrom<By>("number", "cursor"), start: fc.constant(0) }),
  fc.record({ by: fc.constant<By>("number"), start: fc.constant(1) }),
);

test(`a list in pages, in any order, is the server's in the end, and shows nothing twice (seed ${seed})`, {
  timeout: 3_600_000,
}, async () => {
  const property = fc.asyncProperty(
    steps,
    settings,
    fc.record({
      size: fc.integer({ min: 1, max: 4 }),
      tags: fc.boolean(),
      isNamed: fc.boolean(),
      tabs: fc.constantFrom(1, 2),
      delay: fc.constantFrom(0, 3),
    }),
    async (steps, way, { tabs, delay, isNamed, ...others }) => {
      ran(steps.length);
      const world = new World();
      world.delay = delay;
      const server = new Server(world, { ...way, ...others });
      const pages: Page[] = [];
      for (let tab = 0; tab < tabs; tab++) pages.push(new Page(server, await world.open({ join: tabs > 1 }), isNamed));
      try {
        for (const each of steps) await (pages[each.tab % tabs] as Page).take(each);
        await rest(server, pages);
      } finally {
        for (const { tab } of pages) tab.cache.dispose();
      }
    },
  );
  await fc.assert(property, { numRuns: runs, seed, endOnFailure: isQuick });
});
