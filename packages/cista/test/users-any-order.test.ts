import { type Cache, composite, createCache, type Snapshot, type Source, takeSnapshot, type View } from "cista";
import { appendPage, eventsFrom, type Pages, pagesFrom } from "cista/http";
import { virtualClock, virtualEnvironment } from "cista/rehearsal";
import fc from "fast-check";
import { expect, test, vi } from "vitest";
import { restoreWith } from "../src/core/features/storing/restoring.js";
import { base, json, server } from "./hostile-server.js";
import { isQuick, programsOf } from "./model/programs.js";

// Rule F9 in one page, in random programs beside a small model of who asks: nobody is shown another's; and of each change of
// user, renewed token and new token it is known exactly what has to be requested, and how.

const { runs, seed, ran } = programsOf("users", 250, 5);

const latency = 10;
const people = ["ada", "bob", "cy", "dee"] as const;
type Person = (typeof people)[number];

/** How it is said who asks. */
type Way = "token" | "late" | "user" | "late user" | "partition" | "unsteady";
const ways: Way[] = ["token", "late", "user", "late user", "partition", "unsteady"];
interface Page {
  readonly way: Way;
  /** The server has another origin than the page: the browser's cache stands between them. */
  readonly isElsewhere: boolean;
  /** The page came from the server, with a value for whoever opens it. */
  readonly isFromServer: boolean;
  /** Nobody has signed in at first. */
  readonly isAnonymous: boolean;
}

type Kind = "me" | "open" | "whole" | "above" | "news" | "brought" | "list";
interface Item {
  readonly id: string;
  readonly person: string;
}
/** "back": as whoever asked before. */
type Change = "person" | "nobody" | "token" | "renewed" | "back";
type Step =
  | { do: "watch"; kind: Kind; id: number }
  | { do: "unwatch"; nth: number }
  | { do: "read"; kind: Kind; id: number }
  | { do: "invalidate"; kind: Kind; id: number }
  /** Without time for anybody to notice. */
  | { do: "change"; how: Change; person: number }
  /** At rest, and then a first request. */
  | { do: "calm"; how: Change; person: number }
  /** Somebody else with each answer, so many times; one more reads at the turn `late`. */
  | { do: "turns"; times: number; late: number; isWatched: boolean }
  /** The user changes in the middle of a request for what is watched. */
  | {
      do: "meanwhile";
      kind: Kind;
      id: number;
      how: Change;
      person: number;
      after: number;
      back: number;
      isInvalidated: boolean;
    }
  /** Somebody else comes, is known or not, looks at something, and goes. */
  | { do: "visit"; kind: Kind; id: number; person: number; isKnown: boolean }
  | { do: "pass"; ms: number };

/** One thing that is watched, and the number of changes of user before it. */
interface Watched {
  readonly kind: Kind;
  readonly id: number;
  readonly view: View<any>;
  readonly since: number;
  leave(): void;
}

class World {
  readonly clock = virtualClock(1e12);
  readonly cache: Cache;
  readonly page: Page;
  readonly sources: Record<Kind, Source<any, any>>;
  readonly watched: Watched[] = [];
  /** By token: whose it is, and which of that person's sessions. */
  readonly tokens = new Map<string, { person: Person; session: number }>();
  readonly expired = new Set<string>();
  person: Person | undefined = "ada";
  token = "";
  before: [Person | undefined, string] = ["ada", ""];
  serial = 100;
  /** Of the lists: those with an odd number have the same items. */
  version = 1;
  /** Changes of user so far. */
  changes = 0;
  /** Since whoever asks was known; after more than five what is watched may be left. */
  inARow = 0;
  /** Since then a token has run out. */
  isExpired = false;
  /** Until when a renewal may be under way. */
  renewingUntil = 0;
  /** Paths that were requested, and for whom each was last answered: a session, "nobody" or "all". */
  requested: string[] = [];
  readonly held = new Map<string, string>();
  readonly streams = new Set<{ who: string; send(): void }>();
  /** What was wrong in the middle of something. */
  odd: string | undefined;

  constructor(page: Page) {
    this.page = page;
    const { clock } = this;
    const partition = page.way === "partition" ? { partition: "ada" } : {};
    this.cache = createCache({ clock, environment: virtualEnvironment(), retry: false, ...partition });
    this.signIn(
      page.isAnonymous && !page.isFromServer && page.way !== "late" && page.way !== "partition" ? undefined : "ada",
    );
    const isLate = page.way.startsWith("late");
    const fields = () => ({
      ...(this.token ? { authorization: this.token } : {}),
      ...(page.way === "unsteady" ? { "x-time": String(++this.serial) } : {}),
    });
    const { api } = server((url, init) => this.answer(url, init), {
      headers: isLate
        ? async () => {
            const said = fields();
            await this.later(3);
            return said;
          }
        : fields,
      ...(page.way.endsWith("user") ? { user: () => this.person } : {}),
      renew: async () => {
        const { token } = this;
        await this.later(2);
        if (this.token === token) this.renewToken();
      },
    });
    const me = api.source<number, string>({ name: "me", url: (id) => `/me/${id}` });
    const open = api.source<number, string>({ name: "open", url: (id) => `/open/${id}` });
    const common = { maxAge: "1h" } as const;
    const whole = composite({
      ...common,
      name: "whole",
      load: async (id: number, { read }) => (await Promise.all([read(me, id), read(open, id), read(me, 0)]))[0],
    });
    const above = composite({ ...common, name: "above", load: (id: number, { read }) => read(whole, id) });
    const news = eventsFrom<number, string[]>(api, {
      name: "news",
      url: "/news",
      start: [],
      reduce: (all, { data }) => [...all, data],
    });
    const brought = api.source<number, string>({ name: "brought", url: (id) => `/brought/${id}` });
    const list = pagesFrom<number, Item>(api, { name: "list", url: (id) => `/list/${id}` });
    this.sources = { me, open, whole, above, news, brought, list };
    if (page.isFromServer && page.way !== "partition") this.receive();
  }

  later(ms: number): Promise<void> {
    return new Promise((resolve) => this.clock.setTimer(resolve, ms));
  }

  // ── Who asks, and what the server says ─────────────────────────────────────

  signIn(person: Person | undefined): void {
    this.before = [this.person, this.token];
    this.person = person;
    this.token = person ? `${person}-${++this.serial}` : "";
    if (person) this.tokens.set(this.token, { person, session: this.serial });
  }

  renewToken(): void {
    const before = this.tokens.get(this.token);
    if (!before) return;
    this.token = `${before.person}-${++this.serial}`;
    this.tokens.set(this.token, before);
  }

  /** Who asks, by what the page says of it. */
  whoIs(token = this.token): string {
    const { way } = this.page;
    const { person, session } = this.tokens.get(token) ?? {};
    if (way === "partition") return "all";
    if (way.endsWith("user")) return person ?? "nobody";
    return person ? `${person} ${session}` : "nobody";
  }

  change(how: Change, person: number): void {
    const { way } = this.page;
    if (how === "renewed" && way !== "unsteady") {
      // Of a second new token that is refused in one request, the request's failure tells.
      if (this.token && !this.isExpired) this.expired.add(this.token);
      this.isExpired = true;
      return;
    }
    if (this.clock.now() < this.renewingUntil) return; // by tokens alone, a new one would be the renewed one: see docs/security.md
    if (how === "back" && this.before[1] && !this.expired.has(this.before[1])) {
      const now: World["before"] = [this.person, this.token];
      [this.person, this.token] = this.before;
      this.before = now;
      this.changes++;
      this.inARow++;
      return;
    }
    const who = how === "token" ? this.person : how === "nobody" ? undefined : people[person % people.length];
    // A partition is one person's. Without `user`, a request without a token does not mean that somebody has left.
    this.signIn(way === "partition" ? "ada" : way.endsWith("user") ? who : (who ?? "ada"));
    this.changes++;
    this.inARow++;
  }

  async answer(url: URL, init: RequestInit & { headers: Headers }): Promise<Response> {
    const path = url.pathname;
    const token = init.headers.get("authorization") ?? "";
    const person = this.tokens.get(token)?.person ?? "nobody";
    this.requested.push(path);
    if (this.page.way === "late user" && person !== (this.person ?? "nobody"))
      this.odd = `${path} is asked for with the token of ${person}, and ${this.person} asks`;
    this.checkMode(path, token, init);
    await this.later(latency);
    if (init.signal?.aborted) throw init.signal.reason;
    if (this.expired.has(token)) {
      this.renewingUntil = this.clock.now() + 20;
      return new Response(null, { status: 401 });
    }
    const isOpen = path.startsWith("/open");
    const vary = this.page.way === "unsteady" && !isOpen ? { vary: "x-time" } : {};
    if (path === "/news") return this.stream(person, token, init.signal);
    this.held.set(path, isOpen ? "all" : this.whoIs(token));
    // A server that takes the answers of all users for one representation.
    const etag = { etag: `"${path.startsWith("/list") ? this.version : 0}"` };
    if (init.headers.get("if-none-match") === etag.etag && !isOpen)
      return new Response(null, {
        status: 304,
        headers: { "cache-control": "private, max-age=86400", ...etag, ...vary },
      });
    if (path.startsWith("/list")) {
      const link: Record<string, string> = path.endsWith("/2") ? {} : { link: `<${path}/2>; rel="next"` };
      return json([{ id: this.version % 2 ? path : `${path} ${this.version}`, person }], {
        "cache-control": "private, max-age=86400",
        ...etag,
        ...vary,
        ...link,
      });
    }
    const control = isOpen ? "public, max-age=86400" : "private, max-age=86400";
    return json(isOpen ? "all" : person, { "cache-control": control, ...etag, ...vary });
  }

  /** No cache on the way tells one user from another. */
  checkMode(path: string, token: string, init: RequestInit): void {
    const held = this.held.get(path);
    const isKnown = this.page.isElsewhere && (this.page.way === "token" || this.page.way === "user");
    if (!isKnown || held === undefined || held === "all" || held === this.whoIs(token) || path === "/news") return;
    if (path.endsWith("/2")) return; // a second page is not held for itself: it is checked with the server
    if (token === this.token && init.cache !== "reload") this.odd = `${path}, another's, is asked for by ${init.cache}`;
  }

  stream(person: string, token: string, signal: AbortSignal | null | undefined): Response {
    const body = new ReadableStream({
      start: (controller) => {
        const send = () => controller.enqueue(new TextEncoder().encode(`data: ${person}\n\n`));
        const stream = { who: this.whoIs(token), send };
        this.streams.add(stream);
        signal?.addEventListener("abort", () => {
          this.streams.delete(stream);
          controller.error(signal.reason);
        });
      },
    });
    return new Response(body, { headers: { "content-type": "text/event-stream", "cache-control": "private" } });
  }

  /** What the server's page brought, of a source that may be used later: the first who says who they are has it. */
  receive(): void {
    const onServer = createCache({ clock: this.clock });
    onServer.put(this.sources.brought, 1, "ada");
    const { entries, ...snapshot } = takeSnapshot(onServer) as unknown as { entries: object[] } & object;
    onServer.dispose();
    const forVisitor = entries.map((entry) => ({ ...entry, varies: { authorization: "*" } }));
    restoreWith(this.cache, { ...snapshot, entries: forVisitor } as unknown as Snapshot, { isLive: true });
  }

  // ── What is done ───────────────────────────────────────────────────────────

  async take(step: Step): Promise<void> {
    if (step.do === "watch") this.watch(step.kind, step.id);
    else if (step.do === "unwatch") {
      for (const { leave } of this.watched.splice(step.nth % (this.watched.length || 1), 1)) leave();
    } else if (step.do === "read") this.read(step.kind, step.id);
    else if (step.do === "invalidate") this.cache.invalidate({ source: this.sources[step.kind], params: step.id });
    else if (step.do === "change") {
      if (this.inARow >= 5) await this.beKnown();
      this.change(step.how, step.person);
    } else if (step.do === "pass") await this.clock.advance(step.ms);
    else if (step.do === "calm") await this.calm(step.how, step.person);
    else if (step.do === "meanwhile") await this.meanwhile(step);
    else if (step.do === "visit") await this.visit(step);
    else await this.turns(step.times, step.late, step.isWatched);
    for (let round = 0; round < 3; round++) await this.clock.advance(0);
    this.check();
  }

  watch(kind: Kind, id: number): void {
    if (this.page.way === "unsteady" && (kind === "whole" || kind === "above")) return; // each asks for its parts anew
    if (kind === "list") this.readOn(id);
    if (this.watched.length > 6) this.watched.shift()?.leave();
    const view = this.cache.view(this.sources[kind], kind === "news" ? 0 : id); // one stream
    const leave = view.subscribe(() => {});
    this.watched.push({ kind, id, view, since: this.changes, leave });
  }

  /** The list's second page. */
  readOn(id: number): void {
    void appendPage(this.cache, this.sources.list, id).catch(() => {});
  }

  read(kind: Kind, id: number): void {
    const { person, changes } = this;
    if (kind === "list") this.readOn(id);
    this.cache.read(this.sources[kind], kind === "news" ? 0 : id).then(
      (value: unknown) => {
        const isKnown = !this.page.way.startsWith("late") && kind !== "open" && kind !== "news";
        if (isKnown && changes === this.changes && whose(value).some((each) => each !== (person ?? "nobody")))
          this.odd = `${kind} ${id}: ${person} is given ${value}'s`;
      },
      () => {},
    );
  }

  /** A first request of whoever asks now; then all that is watched is theirs. */
  async beKnown(): Promise<void> {
    await this.settle();
    this.inARow = 0;
    this.isExpired = false;
    this.cache.read(this.sources.me, ++this.serial).catch(() => {});
    await this.settle();
  }

  async settle(): Promise<void> {
    for (let round = 0; round < 8; round++) await this.clock.advance(20);
    await this.clock.advance(100);
  }

  /** A change of what is at rest: what has to be requested for it is known. */
  async calm(how: Change, person: number): Promise<void> {
    await this.beKnown();
    await this.checkRest();
    const before = this.whoIs();
    const wanted = this.wanted();
    this.requested = [];
    this.change(how, person);
    const now = this.whoIs();
    const isRefused = this.expired.has(this.token);
    const isOther = (path: string) => this.held.get(path) !== now && this.held.get(path) !== "all";
    const expected = before === now ? [] : [...wanted].filter(isOther);
    const first = this.serial + 1;
    await this.beKnown();
    await this.checkRest();
    if (this.page.way === "unsteady") {
      for (const path of new Set(this.requested)) {
        const count = this.requested.filter((each) => each === path).length;
        if (count > 2) throw new Error(`F9: nobody knows who asks, and ${path} is requested ${count} times`);
      }
      return;
    }
    const due = [...expected, `/me/${first}`, ...(isRefused ? [`/me/${first}`] : [])].sort();
    const requested = this.requested.sort();
    if (String(due) !== String(requested))
      throw new Error(`F9: ${before} is ${now} from now on (${how}): requested ${requested}, and not ${due}`);
  }

  async meanwhile({ kind, id, how, person, after, back, isInvalidated }: Step & { do: "meanwhile" }): Promise<void> {
    await this.beKnown();
    this.watch(kind, id);
    await this.settle();
    if (kind === "list") this.readOn(id);
    for (const stream of this.streams) stream.send();
    await this.settle();
    this.version += 1 + (person % 2);
    if (isInvalidated) this.cache.invalidate({ source: this.sources[kind], params: kind === "news" ? 0 : id });
    else this.read(kind, id);
    await this.clock.advance(after);
    this.change(how, person);
    if (back > 0) {
      await this.clock.advance(back);
      this.change("back", 0);
    }
    await this.settle();
    await this.beKnown();
    await this.checkRest();
  }

  async visit({ kind, id, person, isKnown }: Step & { do: "visit" }): Promise<void> {
    await this.beKnown();
    this.change("person", person);
    this.read(kind, id); // it is theirs
    await this.settle();
    this.change("back", 0);
    await this.beKnown();
    this.change("back", 0);
    if (isKnown) await this.beKnown();
    this.watch(kind, id);
    this.change("back", 0);
    await this.settle();
    await this.beKnown();
    await this.checkRest();
  }

  /** The paths of all that is watched, and of what that is made of. */
  wanted(): Set<string> {
    const all = new Set<string>();
    for (const { kind, id } of this.watched) {
      if (kind === "news") all.add("/news");
      else if (kind === "me" || kind === "open" || kind === "brought") all.add(`/${kind}/${id}`);
      else if (kind === "list") all.add(`/list/${id}`);
      else for (const path of [`/me/${id}`, "/me/0", `/open/${id}`]) all.add(path);
    }
    return all;
  }

  /** The user changes while a request is under way, and again while the next one is. */
  async turns(wanted: number, late: number, isWatched: boolean): Promise<void> {
    if (this.page.way === "unsteady" || this.page.way.startsWith("late")) return;
    const times = this.watched.length > 0 ? Math.min(wanted, 5) : wanted; // not more are followed in a row
    await this.beKnown();
    const id = ++this.serial;
    const { cache, sources } = this;
    const given: (string | undefined)[] = [];
    const note = (nth: number) => (value: unknown) => (given[nth] = String(value));
    const ask = (nth: number) => void cache.read(sources.me, id).then(note(nth), () => {});
    const view = isWatched ? cache.view(sources.me, id) : undefined;
    const leave = view?.subscribe(() => {});
    if (!view) ask(0);
    for (let turn = 1; turn <= times; turn++) {
      await this.clock.advance(latency / 2);
      this.change("person", people.indexOf(this.person ?? "ada") + 1);
      if (turn === late) ask(1);
      await this.clock.advance(latency / 2);
    }
    await this.settle();
    const now = this.person ?? "nobody";
    if (times <= 5 && !view && given[0] !== now) this.odd = `after ${times} turns ${now} has ${given[0]}'s`;
    if (times <= 5 && view && view.get().value !== now)
      this.odd = `after ${times} turns ${now} is shown ${view.get().value}'s`;
    if (late === times && given[1] !== now) this.odd = `who came at the last of ${times} turns has ${given[1]}'s`;
    leave?.();
  }

  // ── What has to hold ───────────────────────────────────────────────────────

  /** At any time: nobody is shown another's. */
  check(): void {
    if (this.odd) throw new Error(`F9: ${this.odd}`);
    const { way } = this.page;
    if (way.startsWith("late") || way === "partition") return; // known by what was said last; all one person's
    const isAnothers = (kind: Kind, value: unknown) =>
      whose(value).some((each) => each !== undefined && each !== (kind === "open" ? "all" : (this.person ?? "nobody")));
    for (const kind of ["me", "whole", "above", "news", "list"] as const) {
      for (const id of [0, 1, 2]) {
        const { value } = this.cache.peek(this.sources[kind], id);
        if (isAnothers(kind, value)) throw new Error(`F9: ${kind} ${id} of ${value} is held for ${this.person}`);
      }
    }
    for (const { kind, id, view, since } of this.watched) {
      const { value } = view.get();
      if (since === this.changes && isAnothers(kind, value))
        throw new Error(`F9: ${this.person} came to watch ${kind} ${id}, and is shown ${value}'s`);
    }
  }

  /** Whoever asks is known: all that is watched is theirs. */
  async checkRest(): Promise<void> {
    this.check();
    const now = this.person ?? "nobody";
    for (const stream of this.streams) stream.send();
    for (let round = 0; round < 5; round++) await this.clock.advance(0);
    const isWatched = this.watched.some(({ kind }) => kind === "news");
    if (this.streams.size !== (isWatched ? 1 : 0)) throw new Error(`F9: ${this.streams.size} streams are open`);
    for (const { who } of this.streams) {
      if (who !== this.whoIs()) throw new Error(`F9: the stream of ${who} is open for ${this.whoIs()}`);
    }
    if (this.page.way === "unsteady") return; // nothing that is held is for anybody
    for (const { kind, id, view } of this.watched) {
      const { state, value, request } = view.get() as { state: string; value?: unknown; request: string };
      const isDone = kind === "news" || request === "none";
      const isTheirs = whose(value).every((each) => each === (kind === "open" ? "all" : now));
      if (!isDone || (kind !== "news" && state !== "ready") || (this.page.way !== "partition" && !isTheirs))
        throw new Error(`F9: at rest ${kind} ${id} is ${state} with ${value}, and ${now} asks (${request})`);
    }
  }
}

/** Of whom a value tells. */
function whose(value: unknown): readonly unknown[] {
  const { items } = (value ?? {}) as Partial<Pages<Item>>;
  return items ? items.map(({ person }) => person) : [value].flat();
}

const id = fc.nat(2);
const person = fc.nat(3);
const kind = fc.constantFrom<Kind>("me", "me", "open", "whole", "above", "news", "brought", "list");
const how = fc.constantFrom<Change>("person", "person", "nobody", "token", "renewed", "back");
const step: fc.Arbitrary<Step> = fc.oneof(
  { weight: 4, arbitrary: fc.record({ do: fc.constant("watch" as const), kind, id }) },
  { weight: 1, arbitrary: fc.record({ do: fc.constant("unwatch" as const), nth: fc.nat(5) }) },
  { weight: 3, arbitrary: fc.record({ do: fc.constant("read" as const), kind, id }) },
  { weight: 1, arbitrary: fc.record({ do: fc.constant("invalidate" as const), kind, id }) },
  { weight: 3, arbitrary: fc.record({ do: fc.constant("change" as const), how, person }) },
  { weight: 4, arbitrary: fc.record({ do: fc.constant("calm" as const), how, person }) },
  {
    weight: 1,
    arbitrary: fc.record({
      do: fc.constant("turns" as const),
      times: fc.integer({ min: 1, max: 7 }),
      late: fc.integer({ min: 1, max: 7 }),
      isWatched: fc.boolean(),
    }),
  },
  {
    weight: 2,
    arbitrary: fc.record({
      do: fc.constant("meanwhile" as const),
      ...{ kind, id, how, person },
      after: fc.oneof(fc.nat(3), fc.nat(30)),
      back: fc.oneof(fc.constant(0), fc.nat(15)),
      isInvalidated: fc.boolean(),
    }),
  },
  { weight: 1, arbitrary: fc.record({ do: fc.constant("visit" as const), kind, id, person, isKnown: fc.boolean() }) },
  { weight: 3, arbitrary: fc.record({ do: fc.constant("pass" as const), ms: fc.constantFrom(1, 3, 5, 10, 11, 40) }) },
);

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

test("F9: a page of a list is put behind it once, where each request is another user's", async () => {
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
  expect([items.length, cache.peek(list).value?.items.length]).toEqual([1, 2]);
  expect(seen.filter(({ url }) => url.endsWith("/2")).length).toBeLessThanOrEqual(2); // unsteady: once more
});

test(`F9: random programs of one page, in which the user changes in any way (seed ${seed})`, {
  timeout: 3_600_000,
}, async () => {
  await import("../src/http/events.js"); // it comes in a file of its own
  const pages = fc.record({
    way: fc.constantFrom(...ways),
    isElsewhere: fc.boolean(),
    isFromServer: fc.constantFrom(false, false, true),
    isAnonymous: fc.boolean(),
  });
  const property = fc.asyncProperty(pages, fc.array(step, { minLength: 3, maxLength: 25 }), async (page, steps) => {
    ran(steps.length);
    if (page.isElsewhere) {
      vi.stubGlobal("location", { origin: "https://page.example", href: "https://page.example/" });
      vi.stubGlobal("document", { baseURI: `${base}/` });
    }
    const world = new World(page);
    try {
      if (page.isFromServer) await world.beKnown(); // else it would be for whoever asks first
      for (const each of steps) await world.take(each);
      await world.beKnown();
      await world.checkRest();
    } finally {
      world.cache.dispose();
      vi.unstubAllGlobals();
    }
  });
  await fc.assert(property, { numRuns: runs, seed, endOnFailure: isQuick });
  expect(runs).toBeGreaterThan(0);
});
