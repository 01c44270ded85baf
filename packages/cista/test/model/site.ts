import type * as cista from "cista";
import { type Cache, type Failure, journalOf, type Reading, type Source, type View } from "cista";
import { type KeptRecord, type Outbox, openStore, type StoreBackend, type StoredRecord } from "cista/browser";
import type * as http from "cista/http";
import { type Pages, path } from "cista/http";
import { showReadings } from "cista/plain";
import { vi } from "vitest";
import { json, server } from "../hostile-server.js";
import { type Tab, World } from "../tabs/world.js";

// A site with all on at once: pages that are joined, a store, an outbox, streams, wholes, lists, tokens that are renewed, two
// users, sign-outs, clocks that jump. The server knows what is so; at rest each page shows that, and nothing else.

export type Who = "token" | "late" | "user";
type Kind = "leaf" | "pair" | "top" | "items" | "rows" | "said" | "me" | "gauge";
/** The copy of the library that defines what a page asks for. The cache is always of the first copy. */
export type Library = Pick<typeof cista, "composite"> &
  Pick<typeof http, "appendPage" | "graphqlFrom" | "graphqlTo" | "origin" | "pagesFrom" | "writeTo">;

export interface Settings {
  readonly who: Who;
  readonly isOtherCopy: boolean;
  /** The token of a known user has to be fetched. */
  readonly isTokenSlow: boolean;
  readonly joined: boolean;
  readonly stored: boolean;
  readonly kept: boolean;
  /** The server's max-age in seconds. */
  readonly maxAge: number;
  readonly latency: number;
}

const ids = [0, 1, 2];
const kinds: Kind[] = ["leaf", "pair", "top", "items", "rows", "said", "me", "gauge"];
/** So many rows are in a page of the list. */
const pageSize = 2;

export class Site {
  readonly world: World;
  readonly settings: Settings;
  readonly library: Library;
  readonly pages: Page[] = [];
  readonly steps: string[] = [];
  // What the server knows.
  readonly versions = new Map<number, number>();
  readonly items: number[] = [];
  readonly said: number[] = [];
  readonly notes = new Map<string, number>();
  readonly booked = new Map<string, number>();
  readonly people = new Map<string, string>();
  readonly expired = new Set<string>();
  /** Writes that were sent with the token of another person than the one who ran them. */
  readonly mixedUp: string[] = [];
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

  async answer(url: URL, init: RequestInit & { headers: Headers }): Promise<Response> {
    const token = init.headers.get("authorization") ?? "";
    const fails = this.random(100) < this.failing;
    if (fails && this.random(2) === 0) {
      await this.later();
      return new Response(null, { status: 503 });
    }
    const early = this.random(2) === 0;
    const respond = () => this.#respond(url, init, token);
    const before = early ? respond() : undefined; // by what was so when it was asked, or when it answers
    await this.later();
    if (init.signal?.aborted && !before) throw new TypeError("aborted before it was done");
    const came = before ?? respond();
    if (fails) throw new TypeError("fetch failed"); // done, and the answer was lost
    return came;
  }

  #respond(url: URL, init: RequestInit & { headers: Headers }, token: string): Response {
    if (this.expired.has(token)) return new Response(null, { status: 401 });
    const person = this.people.get(token) ?? "nobody";
    const fresh = `max-age=${this.settings.maxAge}, stale-while-revalidate=1000`;
    const [, kind = "", id = ""] = url.pathname.split("/");
    if (kind === "graphql") return this.#operate(init, person, fresh);
    if (init.method === "POST") return this.#book(init, person);
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
    return json({ person, note: this.notes.get(person) ?? 1 }, { "cache-control": `private, ${fresh}` });
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
    if (this.isCompared && by !== person) this.mixedUp.push(`${n} was run by ${by}, and sent for ${person}`);
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

  // ── A random program ───────────────────────────────────────────────────────

  async run(length: number): Promise<void> {
    const { world } = this;
    await this.open("ada");
    if (this.settings.joined) await this.open("ada"); // others would hear of nothing
    for (let step = 0; step < length; step++) {
      await this.step();
      await world.clock.advance(1);
      for (const page of this.alive) page.check();
      if (this.mixedUp.length > 0) throw new Error(`O9: ${this.mixedUp}`);
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
      void page.cache.read(this.pick([page.leaf, page.pair] as Source<any, any>[]), id).catch(() => {});
    } else if (what < 46) {
      // The server changes, and the page is told by the program.
      this.versions.set(id, this.versionOf(id) + 1);
      const selectors = [{ source: page.leaf, params: id }, { group: `leaf-${id}` }, page.leaf, "all"] as const;
      const which = this.random(4);
      note(`change ${id} by ${which}`);
      page.cache.invalidate(selectors[which] as never);
    } else if (what < 50) {
      const version = this.versionOf(id) + 1;
      this.versions.set(id, version);
      note(`put ${id}`);
      page.cache.put(page.leaf, id, { id, version });
    } else if (what < 52) {
      note(`puts what is ${page.person}'s`);
      const number = (this.notes.get(page.person) ?? 1) + 1;
      this.notes.set(page.person, number);
      page.cache.put(page.me, undefined, { person: page.person, note: number });
    } else if (what < 54) {
      note(`delete ${id}`);
      page.cache.delete({ source: page.leaf, params: id });
    } else if (what < 60) {
      const n = ++this.serial;
      const how = this.pick(["add", "say"] as const);
      note(`${how} ${n}`);
      page.write(how, n);
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

/** The input of a write: a number for the list, and who adds it. */
interface Added {
  readonly n: number;
  readonly by: string;
}

interface Watched {
  readonly kind: Kind;
  readonly id: number;
  readonly when: boolean;
  view: View<any>;
  leave(): void;
  /** Somebody signed out since it was attached. */
  isSignedOut: boolean;
}

/** Leaves that a component shows in a number that changes. */
class Leaves {
  readings: readonly Reading<unknown>[] = [];
  isSignedOut = false;
  #ids: readonly number[] = [];
  #shown!: ReturnType<typeof showReadings<number, unknown>>;
  readonly #show: () => void;

  constructor(cache: Cache, leaf: Source<number, unknown>) {
    this.#show = () => {
      this.#shown = showReadings(cache, leaf, this.#ids, (readings) => {
        this.readings = readings.map((each) => ({ ...each }));
      });
    };
    this.#show();
  }

  set(ids: readonly number[]): void {
    this.#ids = ids;
    this.#shown.set(ids);
  }

  showAnew(): void {
    this.#shown.stop();
    this.isSignedOut = false;
    this.#show();
  }

  end(): void {
    this.#shown.stop();
  }
}

export class Page {
  readonly tab: Tab;
  readonly cache: Cache;
  readonly leaf: Source<number, { id: number; version: number }>;
  readonly pair: Source<number, number>;
  readonly top: Source<number, unknown>;
  /** Not stored, so that a request for it leaves at once. */
  readonly own: Source<number, unknown>;
  readonly items: Source<void, number[]>;
  readonly rows: Source<void, Pages<number>>;
  readonly me: Source<void, { person: string; note: number }>;
  readonly gauge: Source<any, any>;
  readonly said: Source<void, number[]>;
  readonly write: (how: "add" | "say", n: number) => void;
  readonly leaves: Leaves;
  /** Writes that no other page would send in its place. */
  sending = 0;
  token: string;
  person: string;
  outbox: Outbox | undefined;
  readonly #site: Site;
  readonly #watched: Watched[] = [];
  /** Requests whose end the journal has not told, by key. */
  readonly #open = new Map<string, number>();
  readonly #begin: () => Promise<void>;

  constructor(site: Site, person: string) {
    const { world, settings } = site;
    const { composite, graphqlFrom, graphqlTo, origin, pagesFrom, writeTo } = site.library;
    this.#site = site;
    this.tab = world.tab();
    this.cache = this.tab.cache;
    this.person = person;
    this.token = site.tokenFor(person);
    const headers = () => ({ authorization: this.token });
    /** What comes while the page stands still is heard when it goes on. */
    const heard = () => new Promise<void>((resolve) => this.tab.run(resolve));
    const { api } = server(
      (url, init) => site.answer(url, init).finally(heard),
      {
        headers: settings.who === "late" || settings.isTokenSlow ? () => site.later().then(headers) : headers,
        ...(settings.who === "user" ? { user: () => this.person } : {}),
        renew: async () => {
          const { token, person: who } = this;
          await site.later();
          if (this.token !== token) throw new Error("somebody else by now");
          this.token = site.tokenFor(who);
        },
      },
      origin,
    );
    const retry = { times: 2, firstPause: "500ms" } as const;
    this.leaf = api.source<number, { id: number; version: number }>({
      name: "leaf",
      url: (id) => path`/leaf/${id}`,
      retry,
    });
    this.own = api.source<number, unknown>({ name: "own", url: (n) => path`/own/${n}`, noStore: true, retry });
    this.items = api.source({ name: "items", url: "/items", unwrap: (body: { items: number[] }) => body.items, retry });
    this.me = api.source({ name: "me", url: "/me", unwrap: (body: { person: string; note: number }) => body, retry });
    this.rows = pagesFrom<void, number>(api, {
      name: "rows",
      url: "/rows/0",
      unwrap: (body) => body.rows,
      next: (body) => body.next,
      id: (n) => n,
      retry,
    });
    this.said = graphqlFrom<void, number[]>(api, {
      name: "said",
      url: "/graphql",
      document: "query { said }",
      unwrap: ({ said }) => said,
      retry,
    });
    const { leaf, items, rows, me, said } = this;
    this.leaves = new Leaves(this.cache, leaf);
    this.pair = composite({
      name: "pair",
      load: async (id: number, { read }) => {
        const [one, other] = await Promise.all([read(leaf, id), read(leaf, (id + 1) % 3)]);
        return one.version * 1000 + other.version;
      },
    });
    const { pair } = this;
    this.top = composite({
      name: "top",
      load: async (id: number, { read }) => {
        const made = await read(pair, id);
        const [list, own] = await Promise.all([read(items), read(me)]);
        return { pair: made, count: list.length, person: own.person };
      },
    });
    this.gauge = this.tab.gauge;
    const add = writeTo<Added, unknown>(api, {
      name: "add",
      url: "/items",
      method: "POST",
      kept: settings.kept,
      idempotencyKey: true,
      retry: { times: 3, firstPause: "500ms" },
      onSuccess(_, { by }, cache) {
        if (site.isCompared) cache.put(me, undefined, { person: by, note: site.notes.get(by) ?? 1 });
      },
      optimistic: ({ n }, edit) => {
        edit.at(items).patch((list) => (list.includes(n) ? list : [...list, n]));
        edit
          .at(rows)
          .patch((list) =>
            list.hasNext || list.items.includes(n)
              ? list
              : { ...list, items: [...list.items, n], count: list.count + 1 },
          );
      },
    });
    // Half of them show nothing at once, and half are sent by a `fetch` of their own.
    const say = graphqlTo<Added, number>(api, {
      name: "say",
      url: "/graphql",
      document: "mutation ($n: Int!) { say(n: $n) }",
      kept: settings.kept,
      idempotencyKey: true,
      retry: { times: 2, firstPause: "500ms" },
      invalidates: () => said,
      optimistic: ({ n }, edit) => {
        if (n % 2) edit.at(said).patch((list) => (list.includes(n) ? list : [...list, n]));
      },
    });
    const writes = { add, say };
    this.write = (how, n) => {
      if (!settings.kept) this.sending++;
      const done = () => {
        if (!settings.kept) this.sending--;
      };
      this.cache.run(writes[how], { n, by: this.person }).then(done, done);
    };
    this.#begin = async () => {
      if (settings.joined) await this.tab.join();
      if (settings.stored) {
        const opening = openStore(this.cache, { backend: site.backend() }).catch(() => {});
        await world.clock.advance(20);
        await opening;
      }
      if (settings.kept) this.outbox = await this.tab.keep({ writes: [add, say] });
    };
    this.cache.onSignOut(() => {
      for (const each of [...this.#watched, this.leaves]) each.isSignedOut = true;
    });
    journalOf(this.cache).subscribe(
      ({ kind, key = "" }) => {
        const by = kind === "request" ? 1 : 0;
        if (by) this.#open.set(key, (this.#open.get(key) ?? 0) + by);
        else this.#open.set(key, 0);
      },
      ["request", "answer", "unchanged", "missing", "failure", "retry", "abort", "end"],
    );
  }

  async begin(): Promise<void> {
    await this.#begin();
  }

  watch(kind: Kind, id: number, when: boolean, polls: boolean): void {
    if (this.#watched.length > 12) this.unwatch(0);
    const params = kind === "leaf" || kind === "pair" || kind === "top" ? id : undefined;
    const every = polls ? { revalidateEvery: this.#site.pick([() => 4000, 6000] as const) } : {};
    const view = this.cache.view<any, any>(this[kind] as Source<any, any>, params, { when, ...every });
    const each: Watched = { kind, id, when, view, leave: () => {}, isSignedOut: false };
    each.leave = view.subscribe(() => {});
    this.#watched.push(each);
  }

  unwatch(nth: number): void {
    const [gone] = this.#watched.splice(nth % Math.max(1, this.#watched.length), 1);
    gone?.leave();
  }

  watches(kind: Kind): boolean {
    return this.#watched.some((each) => each.kind === kind && each.when);
  }

  askAnew(nth: number): void {
    const each = this.#watched[nth % Math.max(1, this.#watched.length)];
    if (!each) return;
    each.isSignedOut = false;
    void each.view.revalidate().catch(() => {});
  }

  stopPolling(): void {
    for (const each of this.#watched) {
      each.leave();
      each.view = this.cache.view<any, any>(this[each.kind] as Source<any, any>, this.#paramsOf(each), {
        when: each.when,
      });
      each.leave = each.view.subscribe(() => {});
      each.isSignedOut = false;
    }
  }

  #paramsOf({ kind, id }: Watched): number | undefined {
    return kind === "leaf" || kind === "pair" || kind === "top" ? id : undefined;
  }

  /** What may be old by its own lifetime, since nobody has asked: a person asks. */
  askWhatAged(): void {
    for (const each of this.#watched) {
      const reading = each.view.get();
      const isOld = reading.state === "ready" && !reading.fresh;
      if (each.when && (isOld || reading.failure)) void each.view.revalidate().catch(() => {});
    }
    void this.cache.revalidate(this.leaf); // those of wholes, and of the shown leaves too
    this.cache.invalidate(this.rows); // all pages of the list
  }

  #aside: "freeze" | "leave" | "stop" | undefined;

  putAside(how: "freeze" | "leave" | "stop"): void {
    this.#aside = how;
    this.tab[how]();
  }

  goOn(): void {
    if (this.#aside === "leave") this.tab.comeBack();
    else this.tab.goOn();
    this.#aside = undefined;
  }

  /** Another person signs in, and nobody has signed out. */
  become(person: string): void {
    if (person === this.person) return;
    this.tab.environment.set({ online: true }); // nobody signs in without a network
    this.person = person;
    this.token = this.#site.tokenFor(person);
    void this.cache.read(this.own, this.#site.serial).catch(() => {}); // a page asks something of its new user at once
  }

  async switchTo(person: string): Promise<void> {
    const before = this.token;
    const leaving = this.cache.signOut();
    this.token = "";
    this.person = "nobody";
    await this.#site.world.clock.advance(this.#site.pick([0, 3, 40]));
    this.person = person;
    this.token = this.#site.tokenFor(person);
    this.#site.expired.add(before);
    void leaving.catch(() => {});
    for (const each of this.#watched) {
      each.leave();
      each.leave = each.view.subscribe(() => {});
      each.isSignedOut = false;
    }
    this.leaves.showAnew();
  }

  // ── What has to hold ───────────────────────────────────────────────────────

  /** At any time. */
  check(): void {
    for (const { kind, id, view } of this.#watched) {
      const { state, value } = view.get();
      const person = (value as { person?: string } | undefined)?.person;
      if (state === "ready" && person !== undefined && person !== this.person) {
        throw new Error(`F9: ${kind} ${id} shows ${person}'s to ${this.person}`);
      }
      const shown = kind === "rows" ? (value as Pages<number> | undefined)?.items : undefined;
      if (shown && new Set(shown).size < shown.length) throw new Error(`W3: a row is shown twice: ${shown}`);
    }
  }

  checkRest(): void {
    this.check();
    for (const each of this.#watched) {
      const { kind, id, when, view } = each;
      const reading = view.get();
      const { state, value, request, fresh, failure } = reading;
      const name = `${kind} ${id} of page ${this.#site.pages.indexOf(this)}`;
      if (request !== "none") throw new Error(`at rest: ${name} is still ${request}`);
      if ("pendingWrites" in reading && reading.pendingWrites)
        throw new Error(`at rest: a write is pending on ${name}`);
      if (!when || (each.isSignedOut && state === "empty")) continue;
      if (state !== "ready") throw new Error(`at rest: ${name} is ${state} ${failure?.message ?? ""}`);
      const truth = JSON.stringify(kind === "rows" ? this.#rowsLike(value) : this.#truthOf(kind, id));
      if (JSON.stringify(kind === "rows" ? value.items : value) !== truth) {
        throw new Error(`at rest: ${name} shows ${JSON.stringify(value)}, fresh ${fresh}, and it is ${truth}`);
      }
    }
    for (const reading of this.leaves.readings) {
      const { state, value } = reading as Reading<{ id: number; version: number }>;
      if (this.leaves.isSignedOut && state === "empty") continue;
      if (value?.version !== this.#site.versionOf(value?.id ?? 0)) {
        throw new Error(`at rest: ${JSON.stringify(reading)} is shown among leaves`);
      }
    }
    for (const [key, count] of this.#open) {
      if (count > 0 && !key.startsWith("gauge")) throw new Error(`at rest: a request for ${key} has no end`);
    }
    for (const kept of this.outbox?.list() ?? []) {
      const { state } = kept as { state: string };
      if (state === "waiting" || state === "sending") throw new Error(`O: a kept write is ${state} at rest`);
    }
  }

  /** The beginning of the list, for as many rows as there are in whole pages that are loaded. */
  #rowsLike({ items, hasNext }: Pages<number>): readonly number[] {
    const all = this.#site.items;
    return hasNext ? all.slice(0, Math.max(items.length, pageSize)) : all;
  }

  #truthOf(kind: Exclude<Kind, "rows">, id: number): unknown {
    const { said, items, notes } = this.#site;
    const version = (of: number) => this.#site.versionOf(of);
    const pair = version(id) * 1000 + version((id + 1) % 3);
    const all: Record<typeof kind, unknown> = {
      leaf: { id, version: version(id) },
      pair,
      top: { pair, count: items.length, person: this.person },
      items,
      said,
      me: { person: this.person, note: notes.get(this.person) ?? 1 },
      gauge: { id: 0, version: this.#site.world.event },
    };
    return all[kind];
  }

  async end(): Promise<void> {
    for (const each of this.#watched.splice(0)) each.leave();
    this.leaves.end();
    await this.#site.world.clock.advance(50);
    this.tab.tabs?.close();
    this.outbox?.close();
  }
}

export type { Failure, KeptRecord };
