import type * as cista from "cista";
import type { StoreBackend, StoredRecord } from "cista/browser";
import type * as http from "cista/http";
import { vi } from "vitest";
import { json } from "../hostile-server.js";
import { World } from "../tabs/world.js";
import { kinds, Page, pageSize } from "./site-page.js";
import type { Added } from "./site-sources.js";

// A site with all on at once: pages that are joined, a store, an outbox, streams, wholes, lists, tokens that are renewed, two
// users, sign-outs, clocks that jump. The server knows what is so; at rest each page shows that, and nothing else.

export type Who = "token" | "late" | "user";
/** The copy of the library that defines what a page asks for. The cache is always of the first copy. */
export type Library = Pick<typeof cista, "composite"> &
  Pick<typeof http, "appendPage" | "graphqlFrom" | "graphqlTo" | "origin" | "pagesFrom" | "writeTo">;

export interface Settings {
  readonly who: Who;
  readonly isOtherCopy: boolean;
  /** The token of a known user has to be fetched. */
  readonly isTokenSlow: boolean;
  /** The program puts a composite now and then: it follows no changes until it is asked for. */
  readonly isTopPut: boolean;
  /** Leaves and lists are for all users. */
  readonly isPublic: boolean;
  readonly joined: boolean;
  readonly stored: boolean;
  readonly kept: boolean;
  /** The server's max-age in seconds. */
  readonly maxAge: number;
  readonly latency: number;
}

const ids = [0, 1, 2];
export class Site {
  readonly world: World;
  readonly settings: Settings;
  readonly library: Library;
  readonly pages: Page[] = [];
  readonly steps: string[] = [];
  // What the server knows.
  readonly versions = new Map<number, number>();
  readonly gone = new Set<number>();
  readonly items: number[] = [];
  readonly said: number[] = [];
  readonly notes = new Map<string, number>();
  readonly booked = new Map<string, number>();
  readonly people = new Map<string, string>();
  readonly expired = new Set<string>();
  /** Laws that were broken: writes that were sent for another person than the one who ran them, values of before that were read. */
  readonly broken: string[] = [];
  /** The share of answers that are failures. */
  failing = 0;
  serial = 0;
  readonly #records = new Map<string, StoredRecord>();

  constructor(seed: number, settings: Settings, library: Library) {
    this.library = library;
    this.world = new World(seed);
    this.world.delay = 4;
    this.world.tellsSignOuts = true;
    const stored = new Map<string, string>();
    const localStorage = {
      getItem: (name: string) => stored.get(name) ?? null,
      setItem: (name: string, text: string) => void stored.set(name, text),
    };
    vi.stubGlobal("localStorage", localStorage);
    vi.stubGlobal("reportError", () => {});
    vi.stubGlobal("document", { readyState: "complete", getElementsByClassName: () => [] });
    vi.stubGlobal("performance", { now: () => 300, getEntriesByType: () => [], markResourceTiming: () => {} });
    this.settings = settings;
  }

  random(below: number): number {
    return this.world.random(below);
  }

  pick<T>(all: readonly T[]): T {
    return all[this.random(all.length)] as T;
  }

  tokenFor(person: string): string {
    const token = `t${++this.serial}`;
    this.people.set(token, person);
    return token;
  }

  /** Later, by the network's speed. */
  later(): Promise<void> {
    return new Promise((resolve) => this.world.clock.setTimer(resolve, 1 + this.random(this.settings.latency)));
  }

  versionOf(id: number): number {
    return this.versions.get(id) ?? 1;
  }

  /** The store of the browser. */
  backend(): StoreBackend {
    const records = this.#records;
    const later = <T>(work: () => T) =>
      new Promise<T>((resolve) => this.world.clock.setTimer(() => resolve(work()), 1));
    return {
      readAll: (most) => later(() => ({ records: [...structuredClone(records)].slice(-most), others: [] as string[] })),
      write: (changes) =>
        later(() => {
          for (const [key, record] of changes) {
            records.delete(key);
            if (record) records.set(key, structuredClone(record));
          }
        }),
      clear: () => later(() => records.clear()),
    };
  }

  /** @param isOver whether the page has ended: then what had not reached the server never does */
  async answer(url: URL, init: RequestInit & { headers: Headers }, isOver: () => boolean): Promise<Response> {
    const fails = this.random(100) < this.failing;
    if (fails && this.random(2) === 0) {
      await this.later();
      return new Response(null, { status: 503 });
    }
    const early = this.random(2) === 0;
    const respond = () => this.respond(url, init);
    const before = early ? respond() : undefined; // by what was so when it was asked, or when it answers
    await this.later();
    if ((init.signal?.aborted || isOver()) && !before) throw new TypeError("aborted before it was done");
    const came = before ?? respond();
    if (fails) throw new TypeError("fetch failed"); // done, and the answer was lost
    return came;
  }

  /** As the server is now. */
  respond(url: URL, init: RequestInit & { headers: Headers }): Response {
    const token = init.headers.get("authorization") ?? "";
    if (this.expired.has(token)) return new Response(null, { status: 401 });
    const person = this.people.get(token) ?? "nobody";
    const lifetime = `max-age=${this.settings.maxAge}, stale-while-revalidate=1000`;
    const fresh = `${this.settings.isPublic ? "public, " : ""}${lifetime}`;
    const [, kind = "", id = ""] = url.pathname.split("/");
    if (kind === "graphql") return this.#operate(init, person, fresh);
    if (kind === "touch") {
      this.#change(Number(id), false);
      return json({ version: this.versionOf(Number(id)) }, { "cache-group-invalidation": `"leaf-${id}"` });
    }
    if (init.method === "POST") return this.#book(init, person);
    if (init.method === "DELETE") {
      this.gone.add(Number(id));
      return new Response(null, { status: 204 });
    }
    if (kind === "leaf" && this.gone.has(Number(id)))
      return json({ title: "gone" }, { "cache-control": fresh, "cache-groups": `"leaf-${id}"` }, 404);
    if (kind === "leaf") {
      const version = this.versionOf(Number(id));
      const etag = `"${version}"`;
      const fields = { "cache-control": fresh, etag, "cache-groups": `"leaf-${id}"` };
      return init.headers.get("if-none-match") === etag
        ? new Response(null, { status: 304, headers: fields })
        : json({ id: Number(id), version }, fields);
    }
    if (kind === "rows") {
      const from = Number(id) * pageSize;
      const next = from + pageSize < this.items.length ? { next: `/rows/${Number(id) + 1}` } : {};
      const rows = this.items.slice(from, from + pageSize);
      return json(
        { rows, ...next },
        { "cache-control": fresh, "cache-groups": '"items"', etag: `"${rows} ${next.next}"` },
      );
    }
    if (kind === "items")
      return json({ items: [...this.items] }, { "cache-control": fresh, "cache-groups": '"items"' });
    return json({ person, note: this.notes.get(person) ?? 1 }, { "cache-control": `private, ${lifetime}` });
  }

  #operate(init: RequestInit & { headers: Headers }, person: string, fresh: string): Response {
    const { query, variables } = JSON.parse(String(init.body)) as { query: string; variables: Added };
    if (!query.startsWith("mutation")) return json({ data: { said: [...this.said] } }, { "cache-control": fresh });
    const isDone = this.#write(init, person, variables, this.said);
    return json(isDone ? { data: { say: variables.n } } : { data: null, errors: [{ message: "refused" }] });
  }

  #book(init: RequestInit & { headers: Headers }, person: string): Response {
    const added = JSON.parse(String(init.body)) as Added;
    if (!this.#write(init, person, added, this.items)) return json({ title: "refused" }, {}, 409);
    return json({ n: added.n }, { "cache-group-invalidation": '"items"' }, 201);
  }

  /** Once for each key. @returns whether it was done */
  #write({ headers }: { headers: Headers }, person: string, { n, by }: Added, list: number[]): boolean {
    const key = headers.get("idempotency-key") ?? "";
    if (this.isCompared && by !== person) this.broken.push(`O9: ${n} was run by ${by}, and sent for ${person}`);
    if (key === "") throw new Error("a write without a key");
    if (n % 7 === 0) return false;
    if (!this.booked.has(key)) list.push(n);
    this.booked.set(key, n);
    return true;
  }

  /** A kept write without a `user` is sent for whoever asks. */
  get isCompared(): boolean {
    return this.settings.who === "user" || !this.settings.kept;
  }

  async open(person: string): Promise<Page> {
    const page = new Page(this, person);
    this.pages.push(page);
    await page.begin();
    return page;
  }

  get alive(): Page[] {
    return this.pages.filter(({ tab }) => !tab.isKilled && !tab.isStopped);
  }

  #change(id: number, isGone: boolean): void {
    this.versions.set(id, this.versionOf(id) + 1);
    if (isGone) this.gone.add(id);
    else this.gone.delete(id);
  }

  /** The server changes, and the page is told by the program. */
  changeBy(page: Page, id: number): void {
    this.#change(id, this.random(4) === 0);
    const selectors = [{ source: page.leaf, params: id }, { group: `leaf-${id}` }, page.leaf, "all"] as const;
    const which = this.random(4);
    this.steps.push(`${this.pages.indexOf(page)}: change ${id} by ${which}`);
    page.learn(id, this.versionOf(id), which === 1 && !page.isInGroup(id) ? "put" : "invalidated");
    page.cache.invalidate(selectors[which] as never);
  }

  // ── A random program ───────────────────────────────────────────────────────

  async run(length: number): Promise<void> {
    const { world } = this;
    await this.open("ada");
    if (this.settings.joined) await this.open("ada"); // others would hear of nothing
    for (let step = 0; step < length; step++) {
      await this.step();
      await world.clock.advance(1);
      for (const page of this.alive) page.check();
      if (this.broken.length > 0) throw new Error(this.broken.join("; "));
    }
    await this.rest();
  }

  async step(): Promise<void> {
    const { world } = this;
    const page = this.pick(this.alive);
    const what = this.random(100);
    const id = this.pick(ids);
    const note = (text: string) => this.steps.push(`${this.pages.indexOf(page)}: ${text}`);
    if (what < 20) {
      const kind = this.pick(kinds);
      note(`watch ${kind} ${id}`);
      page.watch(kind, id, this.random(6) > 0, this.random(4) === 0);
    } else if (what < 28) {
      note("unwatch");
      page.unwatch(this.random(20));
    } else if (what < 34) {
      note(`read ${id}`);
      page.read(id);
    } else if (what < 46) {
      this.changeBy(page, id);
    } else if (what < 50) {
      this.#change(id, false);
      note(`put ${id}`);
      page.putLeaf(id, this.versionOf(id));
    } else if (what < 52) {
      note(`puts what is ${page.person}'s`);
      const number = (this.notes.get(page.person) ?? 1) + 1;
      this.notes.set(page.person, number);
      page.cache.put(page.me, undefined, { person: page.person, note: number });
      if (this.settings.isTopPut) page.cache.put(page.top, id, page.truthOf("top", id) as never);
    } else if (what < 54) {
      note(`delete ${id}`);
      page.delete(id);
    } else if (what < 60) {
      const n = ++this.serial;
      const how = this.pick(["add", "say", "add", "say", "strike", "touch"] as const);
      note(`${how} ${how === "strike" || how === "touch" ? id : n}`);
      if (how === "strike" || how === "touch") page[how](id);
      else page.write(how, n);
    } else if (what < 63) {
      note("event");
      world.event++;
    } else if (what < 68) {
      this.failing = this.pick([0, 0, 30, 100]);
      note(`failing ${this.failing}`);
    } else if (what < 72) {
      const state = { online: this.random(3) > 0, visible: this.random(3) > 0 };
      note(`page ${JSON.stringify(state)}`);
      page.tab.environment.set(state);
    } else if (what < 75) {
      note("token expires");
      this.expired.add(page.token);
    } else if (what < 78) {
      const person = this.pick(["ada", "bob"]);
      note(`signs out, then in as ${person}`);
      await page.switchTo(person);
    } else if (what < 79 && this.settings.who === "user") {
      const person = this.pick(["ada", "bob"]);
      note(`becomes ${person}`);
      page.become(person);
    } else if (what < 80 && this.settings.joined && this.pages.length < 6) {
      note("opens");
      await this.open(page.person);
    } else if (what < 82 && this.alive.length > 1 && page.sending === 0) {
      note("killed");
      page.tab.kill();
    } else if (what < 83 && this.pages.length > 1) {
      const aside = this.pages.find(({ tab }) => tab.isStopped);
      if (aside) aside.goOn();
      else if (this.alive.length > 1) page.putAside(this.pick(["freeze", "leave", "stop"] as const));
      note(aside ? `${this.pages.indexOf(aside)} goes on` : "put aside");
    } else if (what < 84) {
      const by = this.pick([-1, 1]) * this.pick([60, 3600, 86_400, 60 * 86_400]);
      world.offset += by * 1000;
      note(`clock ${by} s`);
    } else if (what < 88) {
      note("revalidate");
      page.askAnew(this.random(20));
    } else if (what < 91) {
      note("append");
      void this.library.appendPage(page.cache, page.rows).catch(() => {});
    } else if (what < 94) {
      const shown = this.pick([[], [id], [id, (id + 1) % 3], ids]);
      note(`shows leaves ${shown}`);
      page.leaves.set(shown);
    } else {
      const by = this.pick([1, 20, 300, 3000, 12_000, 90_000]);
      note(`wait ${by}`);
      await world.clock.advance(by);
    }
  }

  /** All goes well again, and there is time enough: nothing is under way, and what is shown is so. */
  async rest(): Promise<void> {
    const { world } = this;
    this.failing = 0;
    for (const page of this.pages) if (page.tab.isStopped) page.goOn();
    for (const page of this.alive) {
      page.tab.environment.set({ online: true, visible: true });
      page.stopPolling();
    }
    await world.clock.advance("5m"); // pauses, patience, and lifetimes end
    for (const page of this.alive) page.askWhatAged();
    await world.clock.advance("2m");
    for (const page of this.alive) page.checkRest();
    const gauges = this.alive.filter((page) => page.watches("gauge"));
    if (this.settings.joined && world.streams.size > Math.max(1, new Set(gauges.map(({ person }) => person)).size)) {
      throw new Error(`B2: ${world.streams.size} streams are open`);
    }
    for (const page of this.alive) await page.end();
    await world.clock.advance("1m");
    if (world.heldLocks.length > 0) throw new Error(`B8: ${world.heldLocks} is held`);
    if (world.streams.size > 0) throw new Error("R3: a stream goes on that nobody watches");
  }
}
