import { type Failure, restoreSnapshot, type Source, takeSnapshot } from "cista";
import { appendPage, origin, type Pages, pagesFrom, writeTo } from "cista/http";
import fc from "fast-check";
import { expect, test } from "vitest";
import { isQuick, programsOf } from "./model/programs.js";
import { stage } from "./stage.js";

// A list in pages that is watched, appended to, written to, invalidated, restored and asked for by another user, in any order:
// no item is shown twice, none of another user, and at rest the list is the beginning of the server's.

const { runs, seed, ran } = programsOf("lists", 400, 4);

interface Row {
  readonly id: string;
  readonly of: string;
}
type By = "number" | "cursor";
const latency = 10;

/** A server with a list for each of two users, and a page that shows it. */
class Site {
  readonly stage = stage();
  readonly rows: Record<string, Row[]> = { wren: [], osk: [] };
  readonly failures: unknown[] = [];
  user = "wren";
  isFailing = false;
  made = 0;
  asked = 0;
  readonly list: Source<void, Pages<Row>>;
  readonly me: Source<number, unknown>;
  readonly add;
  readonly remove;
  readonly size: number;
  leave: (() => void) | undefined;
  readonly #by: By;
  readonly #tags: boolean;

  constructor(size: number, by: By, tags: boolean) {
    this.size = size;
    this.#by = by;
    this.#tags = tags;
    for (const of of ["wren", "osk"]) for (let at = 0; at < 9; at++) this.rows[of]?.push(this.newRow(of));
    const api = origin({
      base: "https://huts.example",
      headers: () => ({ authorization: `Bearer ${this.user}` }),
      fetch: ((url: URL, init: RequestInit) => this.#answer(new Request(url, init))) as typeof fetch,
    });
    this.list = pagesFrom<void, Row>(api, {
      name: "notes",
      url: "/notes",
      maxAge: "1s",
      staleWhileRevalidate: "1s",
      retry: false,
      requestBudget: false,
      unwrap: (body) => body.rows,
      next: (body) => body.next,
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

  newRow(of: string): Row {
    return { id: `${of}-${this.made++}`, of };
  }

  pause(ms: number): Promise<void> {
    return new Promise((resolve) => this.stage.clock.setTimer(() => resolve(), ms));
  }

  async #answer(request: Request): Promise<Response> {
    if (++this.asked > 5000) throw new Error("it is asked for again and again");
    const of = request.headers.get("authorization")?.slice("Bearer ".length) as string;
    await this.pause(latency / 2);
    const response = this.isFailing ? new Response(null, { status: 500 }) : await this.#process(request, of);
    await this.pause(latency / 2);
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
    const body = JSON.stringify({ rows: own, ...(from + this.size < rows.length ? { next } : {}) });
    const etag = `"${body.replaceAll('"', "'")}"`;
    if (!this.#tags) return new Response(body);
    if (request.headers.get("if-none-match") === etag) return new Response(null, { status: 304, headers: { etag } });
    return new Response(body, { headers: { etag } });
  }

  /** Nobody is told, as where another device has done it. */
  changeServer(how: "add" | "remove" | "raise", at: number): void {
    const rows = this.rows[this.user] as Row[];
    if (how === "add") rows.unshift(this.newRow(this.user));
    else {
      const [row] = rows.splice(at % rows.length, 1);
      if (how === "raise" && row) rows.unshift(row);
    }
  }

  async take({ kind, at }: { kind: Kind; at: number }): Promise<void> {
    const { cache, clock } = this.stage;
    const note = (thrown: Failure) => void this.failures.push(thrown);
    if (kind === "watch") {
      this.leave?.();
      this.leave = this.leave ? undefined : cache.view(this.list).subscribe(() => this.check());
    } else if (kind === "append") appendPage(cache, this.list).catch(note);
    else if (kind === "revalidate") void cache.view(this.list, undefined, { when: false }).revalidate();
    else if (kind === "invalidate") cache.invalidate(this.list);
    else if (kind === "write") cache.run(this.add, this.newRow(this.user)).catch(note);
    else if (kind === "delete") {
      const rows = this.rows[this.user] as Row[];
      cache.run(this.remove, rows[at % rows.length] as Row).catch(note);
    } else if (kind === "restore") {
      const snapshot = JSON.parse(JSON.stringify(takeSnapshot(cache)));
      await clock.advance(at * 5);
      cache.delete(this.list);
      restoreSnapshot(cache, snapshot);
    } else if (kind === "fail") this.isFailing = !this.isFailing;
    else if (kind === "user") {
      this.stage.environment.set({ online: true }); // nobody signs in without a network
      this.user = this.user === "wren" ? "osk" : "wren";
      cache.read(this.me, ++this.made).catch(note); // a page asks something of its new user at once
      await clock.advance(0);
    } else if (kind === "pass") await clock.advance(at * 5);
    else if (kind === "network") this.stage.environment.set({ online: !this.stage.environment.online });
    else if (kind === "jump") clock.jump((at - 2) * 30_000);
    else if (kind === "age") await clock.advance(at * 250);
    else this.changeServer(kind, at);
    this.check();
  }

  shown(): Pages<Row> | undefined {
    return this.stage.cache.view(this.list, undefined, { when: false }).get().value;
  }

  /** What holds at any time, of what is shown to the present user. */
  check(): void {
    const items = this.shown()?.items ?? [];
    const ids = items.map(({ id }) => id);
    if (new Set(ids).size < ids.length) throw new Error(`an item is shown twice: ${ids}`);
    if (new Set(items.map(({ of }) => of)).size > 1) throw new Error(`one list of two users: ${ids}`);
    if (items.length > 0 && items[0]?.of !== this.user) throw new Error(`${this.user} is shown ${ids}`);
  }

  async rest(): Promise<void> {
    const { cache, clock } = this.stage;
    this.isFailing = false;
    this.stage.environment.set({ online: true });
    this.leave ??= cache.view(this.list).subscribe(() => {});
    await clock.advance(1000);
    cache.invalidate(this.list); // all loaded pages are looked at: what moved further behind is seen only so
    await clock.advance(1000);
    const asked = this.asked;
    const rows = (this.rows[this.user] as Row[]).map(({ id }) => id);
    const pages = this.shown();
    const ids = pages?.items.map(({ id }) => id) ?? [];
    expect(ids).toEqual(rows.slice(0, ids.length));
    expect(ids.length).toBeGreaterThanOrEqual(Math.min(this.size, rows.length));
    expect(pages?.hasNext).toBe(ids.length < rows.length);
    await clock.advance(500);
    expect(this.asked).toBe(asked);
    for (let page = 0; page < rows.length && this.shown()?.hasNext; page++) {
      const coming = appendPage(cache, this.list);
      await clock.advance(2 * latency);
      await coming;
    }
    expect(this.shown()?.items.map(({ id }) => id)).toEqual(rows);
  }
}

/** What stands here more than once comes more often. */
const kinds = [
  ...(["append", "append", "append", "write", "write", "delete", "pass", "pass", "pass"] as const),
  ...(["watch", "revalidate", "invalidate", "restore", "fail", "user", "network", "jump", "age"] as const),
  ...(["add", "remove", "raise"] as const),
];
type Kind = (typeof kinds)[number];
const steps = fc.array(fc.record({ kind: fc.constantFrom(...kinds), at: fc.nat(8) }), { minLength: 1, maxLength: 25 });

test(`a list in pages, in any order, is the server's in the end, and shows nothing twice (seed ${seed})`, {
  timeout: 3_600_000,
}, async () => {
  const property = fc.asyncProperty(
    steps,
    fc.integer({ min: 1, max: 4 }),
    fc.constantFrom<By>("number", "cursor"),
    fc.boolean(),
    async (steps, size, by, tags) => {
      ran(steps.length);
      const site = new Site(size, by, tags);
      try {
        for (const each of steps) await site.take(each);
        await site.rest();
      } finally {
        site.stage.cache.dispose();
      }
    },
  );
  await fc.assert(property, { numRuns: runs, seed, endOnFailure: isQuick });
});
