import { type Cache, createCache, entriesOf, journalOf, type Reading, type Source, type View, type Write } from "cista";
import { type Outbox, openStore, receivePage } from "cista/browser";
import type { Pages } from "cista/http";
import { showReadings } from "cista/plain";
import { openPage } from "cista/server";
import { renderingOf } from "../../src/core/doors/page.js";
import { server } from "../hostile-server.js";
import type { Tab } from "../tabs/tab.js";
import type { Site } from "./site.js";
import { definitionsOf } from "./site-sources.js";

// One page of the site (see site.ts): its sources and writes, what its person does, and what has to hold for what it shows.

export const kinds = ["leaf", "pair", "top", "items", "rows", "head", "said", "me", "gauge"] as const;
export type Kind = (typeof kinds)[number];
/** So many rows are in a page of the list. */
export const pageSize = 2;

type Sources = ReturnType<typeof definitionsOf>;

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
        this.readings = readings.map((each) => ({ ...each }) as Reading<unknown>);
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
  declare readonly leaf: Sources["leaf"];
  declare readonly pair: Sources["pair"];
  declare readonly top: Sources["top"];
  declare readonly own: Sources["own"];
  declare readonly items: Sources["items"];
  declare readonly rows: Sources["rows"];
  declare readonly head: Sources["head"];
  declare readonly me: Sources["me"];
  declare readonly said: Sources["said"];
  readonly gauge: Source<any, any>;
  readonly write: (how: "add" | "say", n: number) => void;
  readonly strike: (id: number) => void;
  readonly touch: (id: number) => void;
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
  /** A server renders the page: what that asks for is answered at once. */
  isRendered = false;

  constructor(site: Site, person: string) {
    const { world, settings } = site;
    this.#site = site;
    this.tab = world.tab();
    this.cache = this.tab.cache;
    this.person = person;
    this.token = site.tokenFor(person);
    const headers = () => ({ authorization: this.token });
    const isSlow = settings.who === "late" || settings.isTokenSlow;
    const lateHeaders = async () => {
      if (!this.isRendered) await site.later();
      return headers();
    };
    /** What comes while the page stands still is heard when it goes on. */
    const heard = () => new Promise<void>((resolve) => this.tab.run(resolve));
    const ask = (url: URL | string, init: RequestInit) => {
      const request = { ...init, headers: new Headers(init.headers) };
      return this.isRendered
        ? site.respond(new URL(url), request)
        : site.answer(new URL(url), request, () => this.tab.isKilled).finally(heard);
    };
    const { api } = server(
      ask,
      {
        headers: isSlow ? lateHeaders : headers,
        ...(settings.who === "user" ? { user: () => this.person } : {}),
        renew: async () => {
          const { token, person: who } = this;
          await site.later();
          if (this.token !== token) throw new Error("somebody else by now");
          this.token = site.tokenFor(who);
        },
      },
      site.library.origin,
    );
    const { writes, strike, touch, ...sources } = definitionsOf(site, api, ask);
    Object.assign(this, sources);
    this.leaves = new Leaves(this.cache, this.leaf);
    this.gauge = this.tab.gauge;
    const send = (write: Write<number, any>, id: number) => {
      this.sending++;
      const done = () => void this.sending--;
      this.cache.run(write, id).then((result) => {
        if (result) this.learn(id, result.version, "invalidated");
        done();
      }, done);
    };
    this.strike = (id) => send(strike, id);
    this.touch = (id) => send(touch, id);
    this.write = (how, n) => {
      if (!settings.kept) this.sending++;
      const done = () => {
        if (!settings.kept) this.sending--;
      };
      this.cache.run(writes[how], { n, by: this.person }).then(done, done);
    };
    this.#begin = async () => {
      // Nothing changes between a server's answer and this page's first look, of which nobody could tell it.
      const isFirst = site.pages.length === 1;
      const isBrought = site.random(2) === 0;
      if (isFirst && isBrought) await this.#receive();
      if (settings.joined) await this.tab.join();
      if (!isFirst && isBrought) await this.#receive();
      if (settings.stored) {
        const opening = openStore(this.cache, { backend: site.backend() }).catch(() => {});
        if (site.random(3) === 0) site.changeBy(this, site.random(3));
        await world.clock.advance(20);
        await opening;
      }
      if (settings.kept) this.outbox = await this.tab.keep({ writes: [writes.add, writes.say] });
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

  /** A server has rendered the page for its person, and sent some of the values along: in one piece, or in two. */
  async #receive(): Promise<void> {
    const site = this.#site;
    this.isRendered = true;
    const page = openPage(createCache({ clock: site.world.clock }), { reusable: site.random(4) === 0 });
    const shown = kinds.filter((kind) => kind !== "gauge" && site.random(2) === 0);
    const texts: string[] = [];
    for (const kind of shown) {
      await page.show<any, any>(this[kind] as Source<any, any>, this.#paramsOf({ kind, id: site.random(3) }));
      if (site.random(3) === 0) texts.push(page.json());
    }
    texts.push(page.json());
    page.close();
    this.isRendered = false;
    for (const text of texts) if (text !== "") await receivePage(this.cache, JSON.parse(text));
  }

  /** The groups that the server has named stay. Where it has not answered yet, the program names them. */
  putLeaf(id: number, version: number): void {
    this.cache.put(this.leaf, id, { id, version }, this.isInGroup(id) ? {} : { groups: [`leaf-${id}`] });
    this.learn(id, version, "put");
  }

  /** Whether the entry of a leaf bears the group that the server names. */
  isInGroup(id: number): boolean {
    return [...entriesOf(this.cache, this.leaf)].some(({ groups }) => groups.includes(`leaf-${id}`));
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

  #paramsOf({ kind, id }: Pick<Watched, "kind" | "id">): number | undefined {
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
    if (this.#site.settings.isTopPut) void this.cache.revalidate(this.top);
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
      // A component that is hydrated now is shown the same, or nothing.
      const hydrated = renderingOf(this.cache)?.of(view, this[kind] as Source<any, any>, true) as
        | Reading<any>
        | undefined;
      const its = (hydrated?.value as { person?: string } | undefined)?.person;
      if (its !== undefined && its !== this.person) throw new Error(`F9: ${kind} ${id} is hydrated with ${its}'s`);
      if (kind === "leaf" && state === "ready") this.#checkVersion(id, (value as { version: number }).version);
      const shown = kind === "rows" ? (value as Pages<number> | undefined)?.items : undefined;
      if (shown && new Set(shown).size < shown.length) throw new Error(`W3: a row is shown twice: ${shown}`);
    }
  }

  /** The version of a leaf that this page's program has put, or has invalidated the older ones of. */
  readonly #known = new Map<number, number>();
  /** The latter alone: a composite of a leaf that was put, or is gone, is stale, and may be read so. */
  readonly #invalidated = new Map<number, number>();

  learn(id: number, version: number, how: "put" | "invalidated"): void {
    this.#known.set(id, Math.max(version, this.#known.get(id) ?? 0));
    if (how === "invalidated") this.#invalidated.set(id, this.#known.get(id) ?? 0);
  }

  /** An entry that holds nothing is in no group of an answer. */
  delete(id: number): void {
    this.cache.delete({ source: this.leaf, params: id });
    this.#invalidated.delete(id);
  }

  /** Reads its own writes: the program is given nothing of before what it knows of. */
  read(id: number): void {
    const next = (id + 1) % 3;
    const known = this.#known.get(id) ?? 0;
    const [own, its] = [this.#invalidated.get(id) ?? 0, this.#invalidated.get(next) ?? 0];
    const isOlder = (version: number, than: number) => version !== 0 && version < than; // 0: there is none
    this.cache.read(this.leaf, id).then(
      ({ version }) => {
        if (isOlder(version, known)) this.#site.broken.push(`R2: leaf ${id} is read as ${version} after ${known}`);
      },
      () => {},
    );
    this.cache.read(this.pair, id).then(
      (made) => {
        if (isOlder(Math.floor(made / 1000), own) || isOlder(made % 1000, its))
          this.#site.broken.push(`R2: pair ${id} is read as ${made} after ${own} and ${its}`);
      },
      () => {},
    );
  }

  readonly #newest = new Map<number, number>();

  /** A page goes on in time, and never back. */
  #checkVersion(id: number, version: number): void {
    const newest = this.#newest.get(id) ?? 0;
    if (version < newest) throw new Error(`F2: leaf ${id} shows version ${version} after ${newest}`);
    this.#newest.set(id, version);
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
        throw new Error(
          `at rest: a write is pending on ${name} ${JSON.stringify([this.person, this.token, this.outbox?.list(), value, this.#site.items])}`,
        );
      if (!when || (each.isSignedOut && state === "empty")) continue;
      if (kind === "leaf" && this.#site.gone.has(id)) {
        if (state !== "missing") throw new Error(`at rest: ${name} is ${state}, and there is none`);
        continue;
      }
      if (state !== "ready") throw new Error(`at rest: ${name} is ${state} ${failure?.message ?? ""}`);
      const truth = JSON.stringify(kind === "rows" ? this.#rowsLike(value) : this.truthOf(kind, id));
      if (JSON.stringify(kind === "rows" ? value.items : value) !== truth) {
        throw new Error(`at rest: ${name} shows ${JSON.stringify(value)}, fresh ${fresh}, and it is ${truth}`);
      }
    }
    for (const reading of this.leaves.readings) {
      const { key, state, value } = reading as Reading<{ id: number; version: number }>;
      if (this.leaves.isSignedOut && state === "empty") continue;
      const id = Number(key.split(" ")[1]);
      const isGone = this.#site.gone.has(id);
      if (
        state !== (isGone ? "missing" : "ready") ||
        value?.version !== (isGone ? undefined : this.#site.versionOf(id))
      ) {
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

  truthOf(kind: Exclude<Kind, "rows">, id: number): unknown {
    const { said, items, notes, gone } = this.#site;
    const version = (of: number) => (gone.has(of) ? 0 : this.#site.versionOf(of));
    const pair = version(id) * 1000 + version((id + 1) % 3);
    const all: Record<typeof kind, unknown> = {
      leaf: { id, version: version(id) },
      pair,
      top: { pair, count: items.length, person: this.person },
      items,
      head: items[0] ?? 0,
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
