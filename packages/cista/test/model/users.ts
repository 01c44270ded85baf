import {
  type Cache,
  type Clock,
  composite,
  createCache,
  type Snapshot,
  type Source,
  takeSnapshot,
  type View,
  type Write,
} from "cista";
import { appendPage, eventsFrom, type Pages, pagesFrom, writeTo } from "cista/http";
import { virtualEnvironment } from "cista/rehearsal";
import { restoreWith } from "../../src/core/features/storing/restoring.js";
import { server } from "../hostile-server.js";
import { Accounts, type Item, isRefused, latency, type Page } from "./accounts.js";
import { isBrought, isList, isOfOthers, type Kind, kinds, type Step } from "./user-steps.js";

/** Rule F9 in one page: of each change of user it is known what may be shown, and what has to be requested. */

/** One thing that is watched, and the number of changes of user before it. */
interface Watched {
  readonly kind: Kind;
  readonly id: number;
  readonly view: View<any>;
  readonly since: number;
  leave(): void;
}

export class World {
  readonly accounts: Accounts;
  readonly cache: Cache;
  readonly sources: Record<Kind, Source<any, any>>;
  /** The composite `sum` is made of it. */
  readonly unused: Source<number, string>;
  /** Now and then it fails, and is tried again. */
  readonly flaky: Source<number, string>;
  readonly mark: Write<number, string>;
  readonly watched: Watched[] = [];
  /** Whose the values are that the page brought: the first who says who they are. */
  broughtTo: string | undefined;
  /** Writes whose `onSuccess` was called. */
  succeeded = 0;
  taken = 0;

  constructor(
    readonly page: Page,
    readonly clock: Clock & { advance(ms: number): Promise<void> },
  ) {
    const accounts = new Accounts(page, clock);
    this.accounts = accounts;
    const partition = page.way === "partition" ? { partition: "ada" } : {};
    this.cache = createCache({ clock, environment: virtualEnvironment(), retry: false, ...partition });
    const { api } = server((url, init) => accounts.answer(url, init), accounts.options());
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
    const unused = api.source<number, string>({ name: "unused", url: (id) => `/unused/${id}` });
    const sum = composite({ ...common, name: "sum", load: (id: number, { read }) => read(unused, id) });
    const list = pagesFrom<number, Item>(api, { name: "list", url: (id) => `/list/${id}` });
    const mixed = pagesFrom<number, Item>(api, { name: "mixed", url: (id) => `/mixed/${id}` });
    const row = api.source<number, string>({
      name: "row",
      url: (id) => `/row/${id}`,
      standIn: (id, cache) => cache.peek(list, id).value?.items[0]?.person,
    });
    const refused = api.source<number, string>({ name: "refused", url: (id) => `/refused/${id}` });
    const dear = composite({ ...common, name: "dear", load: (id: number, { read }) => read(refused, id) });
    this.sources = { me, row, open, refused, dear, whole, above, news, brought, sum, list, mixed };
    this.unused = unused;
    this.flaky = api.source<number, string>({
      name: "flaky",
      url: (id) => `/flaky/${id}`,
      retry: { times: 1, firstPause: 5 },
    });
    this.mark = writeTo<number, string>(api, {
      name: "mark",
      method: "POST",
      url: (id) => `/mark/${id}`,
      optimistic: (id, edit) => {
        const { who } = this;
        edit.at(open, id).patch(() => `${who} has marked it`);
      },
      onSuccess: (who, id, cache) => {
        this.succeeded++;
        cache.put(me, id, who);
        accounts.notePut(`/me/${id}`);
      },
    });
  }

  get who(): string {
    return this.accounts.person ?? "nobody";
  }

  /** What the server's page brought, of sources that may be used later: the first who says who they are has it. */
  async receive(): Promise<void> {
    if (!this.page.isFromServer || this.page.way === "partition") return;
    const onServer = createCache({ clock: this.clock });
    onServer.put(this.sources.brought, 1, "ada", { varies: { authorization: "*" } });
    onServer.put(this.unused, 1, "ada", { varies: { authorization: "*" } });
    await onServer.read(this.sources.sum, 1);
    const text = JSON.stringify(takeSnapshot(onServer));
    onServer.dispose();
    const snapshot = JSON.parse(text.replaceAll(/"authorization":"[^"]+"/g, '"authorization":"*"')) as Snapshot; // as a page says it
    restoreWith(this.cache, snapshot, { isLive: true });
  }

  // ── What is done ───────────────────────────────────────────────────────────

  async take(step: Step): Promise<void> {
    this.taken++;
    if (step.do === "watch") this.watch(step.kind, step.id);
    else if (step.do === "unwatch") {
      for (const { leave } of this.watched.splice(step.nth % (this.watched.length || 1), 1)) leave();
    } else if (step.do === "read") this.read(step.kind, step.id);
    else if (step.do === "put") this.put(step.id);
    else if (step.do === "invalidate") this.cache.invalidate({ source: this.sources[step.kind], params: step.id });
    else if (step.do === "change") {
      if (this.accounts.inARow >= 5) await this.beKnown();
      this.accounts.change(step.how, step.person);
    } else if (step.do === "pass") await this.clock.advance(step.ms);
    else if (step.do === "calm") await this.calm(step);
    else if (step.do === "meanwhile") await this.meanwhile(step);
    else if (step.do === "more") await this.more(step);
    else if (step.do === "fail") await this.fail(step);
    else if (step.do === "write") await this.write(step);
    else if (step.do === "visit") await this.visit(step);
    else await this.turns(step.times, step.late, step.isWatched);
    for (let round = 0; round < 3; round++) await this.clock.advance(0);
    this.check();
  }

  watch(kind: Kind, id: number, readsOn = true): View<any> | undefined {
    if (this.accounts.isUnsteady && isOfOthers(kind)) return; // each asks for its parts anew
    if (isList(kind) && readsOn) this.readOn(kind, id);
    if (this.watched.length > 6) this.watched.shift()?.leave();
    if (kind === "brought") this.lookAtBrought();
    const view = this.cache.view(this.sources[kind], kind === "news" ? 0 : id); // one stream
    const leave = view.subscribe(() => {});
    this.watched.push({ kind, id, view, since: this.accounts.changes, leave });
    return view;
  }

  /** The list's second page. */
  readOn(kind: Kind, id: number): void {
    void appendPage(this.cache, this.sources[kind], id).catch(() => {});
  }

  read(kind: Kind, id: number, cache: "default" | "no-cache" = "default"): void {
    const { accounts, who } = this;
    const { changes } = accounts;
    if (isList(kind)) this.readOn(kind, id);
    if (kind === "brought") this.lookAtBrought();
    this.cache.read(this.sources[kind], kind === "news" ? 0 : id, { cache }).then(
      (value: unknown) => {
        const isKnown = !this.page.way.startsWith("late") && kind !== "news";
        if (isKnown && changes === accounts.changes && this.isAnothers(kind, id, value, who))
          accounts.odd = `${kind} ${id}: ${who} is given ${JSON.stringify(value)}`;
      },
      () => {},
    );
  }

  /** A value that a program puts is of the present user. */
  put(id: number): void {
    if (this.page.way.startsWith("late") || this.accounts.isUnsteady) return;
    this.cache.put(this.sources.me, id, this.who);
    this.accounts.notePut(`/me/${id}`);
  }

  lookAtBrought(): void {
    const who = this.accounts.firstToAsk ?? this.accounts.whoIs();
    if (who !== "nobody") this.broughtTo ??= who;
  }

  /** A first request of whoever asks now; then all that is watched is theirs. */
  async beKnown(by: Kind = "me"): Promise<void> {
    const { accounts } = this;
    await this.settle();
    accounts.inARow = 0;
    accounts.isExpired = false;
    this.cache.read(this.sources[by], ++accounts.serial).catch(() => {});
    await this.settle();
  }

  async settle(): Promise<void> {
    for (let round = 0; round < 8; round++) await this.clock.advance(20);
    await this.clock.advance(100);
  }

  /** A change of what is at rest: what has to be requested for it is known. */
  async calm({ how, person, by: asked }: Step & { do: "calm" }): Promise<void> {
    const { accounts } = this;
    const by = accounts.isUnsteady ? "me" : asked;
    await this.beKnown();
    await this.checkRest();
    const before = accounts.whoIs();
    const wanted = this.wanted();
    accounts.requested = [];
    accounts.change(how, person);
    const now = accounts.whoIs();
    const { isRefused } = accounts;
    const isOther = (path: string) => ![now, "all"].includes(accounts.held.get(path) ?? "");
    const expected = before === now ? [] : [...wanted].filter(isOther);
    const first = accounts.serial + 1;
    await this.beKnown(by);
    await this.checkRest();
    if (this.accounts.isUnsteady) {
      for (const path of new Set(accounts.requested)) {
        const count = accounts.requested.filter((each) => each === path).length;
        if (count > 2) throw new Error(`F9: nobody knows who asks, and ${path} is requested ${count} times`);
      }
      return;
    }
    const own = `/${partOf[by] ?? by}/${first}`;
    const due = [...expected, own, ...(isRefused ? [own] : [])].sort();
    // In a partition each token is the same person's, and may have other rights.
    const mayBe = (path: string) => this.page.way === "partition" && path.startsWith("/refused") && path !== own;
    const requested = accounts.requested.filter((path) => !mayBe(path)).sort();
    if (String(due) !== String(requested))
      throw new Error(`F9: ${before} is ${now} from now on (${how}): requested ${requested}, and not ${due}`);
  }

  async meanwhile({
    kind,
    id,
    how,
    person,
    after,
    back,
    isInvalidated,
    isAsked,
  }: Step & { do: "meanwhile" }): Promise<void> {
    const { accounts } = this;
    await this.beKnown();
    if (kind === "row") this.read("list", id); // it stands in
    this.watch(kind, id);
    await this.settle();
    if (isList(kind)) this.readOn(kind, id);
    for (const stream of accounts.streams) stream.send();
    await this.settle();
    accounts.version += 1 + (person % 2);
    const selector = { source: this.sources[kind], params: kind === "news" ? 0 : id };
    if (kind === "row" && !isInvalidated) this.cache.delete(selector);
    else if (isInvalidated) this.cache.invalidate(selector);
    else this.read(kind, id, isList(kind) ? "no-cache" : "default");
    await this.clock.advance(after);
    accounts.change(how, person);
    if (back > 0) {
      await this.clock.advance(back);
      accounts.change("back", 0);
    }
    if (isAsked) this.read("me", ++accounts.serial);
    for (let round = 0; round < 8; round++) {
      await this.clock.advance(4);
      this.check();
    }
    await this.settle();
    await this.beKnown();
    await this.checkRest();
  }

  async more({ kind, how, person, after, again, asks }: Step & { do: "more" }): Promise<void> {
    const { accounts } = this;
    await this.beKnown();
    const id = ++accounts.serial; // a list of which only the first page is held
    this.watch(kind, id, false);
    await this.settle();
    accounts.version += 1 + (person % 2);
    this.readOn(kind, id);
    const askList = () => this.cache.read(this.sources[kind], id, { cache: "no-cache" }).catch(() => {});
    await this.clock.advance(after);
    if (asks === "before") {
      void askList();
      await this.clock.advance(again % latency);
    }
    accounts.change(how, person);
    if (asks === "after") void askList();
    await this.clock.advance(again);
    this.readOn(kind, id);
    await this.settle();
    await this.beKnown();
    await this.checkRest();
  }

  /** Two watched entries fail, again and again, and the user changes meanwhile: each is requested a few times, and no failure is another's. */
  async fail({ how, person, after, isDeleted }: Step & { do: "fail" }): Promise<void> {
    const { accounts, cache, flaky } = this;
    await this.beKnown();
    const ids = [++accounts.serial, ++accounts.serial];
    const views = ids.map((id) => cache.view(flaky, id));
    const leaves = views.map((view) => view.subscribe(() => {}));
    await this.settle();
    accounts.requested = [];
    accounts.isFailing = true;
    for (const [at, id] of ids.entries()) {
      if (isDeleted) cache.delete({ source: flaky, params: id });
      void views[at]?.revalidate();
    }
    await this.clock.advance(after);
    if (!accounts.isUnsteady) {
      accounts.change(how, person);
      this.read("me", ++accounts.serial);
    }
    await this.settle();
    for (const [at, id] of ids.entries()) {
      const count = accounts.requested.filter((path) => path === `/flaky/${id}`).length;
      if (count > 4) throw new Error(`F9: /flaky/${id} fails, and is requested ${count} times`);
      const told = (views[at]?.get().failure?.body as { person?: string } | undefined)?.person;
      if (told !== undefined && this.page.way !== "partition" && told !== this.who)
        throw new Error(`F9: ${this.who} is told the failure of ${told}`);
    }
    accounts.isFailing = false;
    for (const leave of leaves) leave();
    await this.beKnown();
    await this.checkRest();
  }

  /** The write is the first to tell of a user: its change is shown, and its answer is that user's. */
  async write({ id, how, person, after, leaves }: Step & { do: "write" }): Promise<void> {
    const { accounts, succeeded } = this;
    await this.beKnown();
    const view = this.watch("open", id);
    await this.settle();
    accounts.change(how, person);
    const { who } = this;
    const isLeft = leaves !== "no" && who !== "nobody"; // a write of nobody may be the one that signs in
    this.cache.run(this.mark, id).catch(() => {});
    await this.clock.advance(after);
    if (view?.get().value !== `${who} has marked it`) accounts.odd = `${who} has marked ${id}: ${view?.get().value}`;
    if (isLeft) accounts.changeToNext();
    if (isLeft && leaves === "known") this.cache.read(this.sources.me, ++accounts.serial).catch(() => {});
    await this.settle();
    this.check();
    if (!isLeft && this.succeeded === succeeded) accounts.odd = `nothing is made of the answer to ${who}`;
    await this.beKnown();
    await this.checkRest();
  }

  async visit({ kind, id, person, isKnown }: Step & { do: "visit" }): Promise<void> {
    const { accounts } = this;
    await this.beKnown();
    accounts.change("person", person);
    this.read(kind, id); // it is theirs
    await this.settle();
    accounts.change("back", 0);
    await this.beKnown();
    accounts.change("back", 0);
    if (isKnown) await this.beKnown();
    this.watch(kind, id);
    accounts.change("back", 0);
    await this.settle();
    await this.beKnown();
    await this.checkRest();
  }

  /** The paths of all that is watched, and of what that is made of. */
  wanted(): Set<string> {
    const all = new Set<string>();
    for (const { kind, id, view } of this.watched) {
      if (kind === "news") all.add("/news");
      else if (kind === "whole" || kind === "above")
        for (const path of [`/me/${id}`, "/me/0", `/open/${id}`]) all.add(path);
      else all.add(`/${partOf[kind] ?? kind}/${id}`);
      // Its second page is one user's, and so is the list with it.
      if (kind === "mixed" && whose(view.get().value).length > 1) this.accounts.held.set(`/mixed/${id}`, "somebody");
    }
    return all;
  }

  /** The user changes while a request is under way, and again while the next one is. */
  async turns(wanted: number, late: number, isWatched: boolean): Promise<void> {
    if (this.accounts.isUnsteady || this.page.way.startsWith("late")) return;
    const times = this.watched.length > 0 ? Math.min(wanted, 5) : wanted; // not more are followed in a row
    const { accounts, cache, sources } = this;
    await this.beKnown();
    const id = ++accounts.serial;
    const given: (string | undefined)[] = [];
    const note = (nth: number) => (value: unknown) => (given[nth] = String(value));
    const ask = (nth: number) => void cache.read(sources.me, id).then(note(nth), () => {});
    const view = isWatched ? cache.view(sources.me, id) : undefined;
    const leave = view?.subscribe(() => {});
    if (!view) ask(0);
    for (let turn = 1; turn <= times; turn++) {
      await this.clock.advance(latency / 2);
      accounts.changeToNext();
      if (turn === late) ask(1);
      await this.clock.advance(latency / 2);
    }
    await this.settle();
    const { who } = this;
    if (times <= 5 && !view && given[0] !== who) accounts.odd = `after ${times} turns ${who} has ${given[0]}'s`;
    if (times <= 5 && view && view.get().value !== who)
      accounts.odd = `after ${times} turns ${who} is shown ${view.get().value}'s`;
    if (late === times && given[1] !== who) accounts.odd = `who came at the last of ${times} turns has ${given[1]}'s`;
    leave?.();
  }

  // ── What has to hold ───────────────────────────────────────────────────────

  /** Whether a value tells of somebody else than the one who asks. */
  isAnothers(kind: Kind, id: number, value: unknown, who = this.who): boolean {
    // Of a composite of a source that was not used yet nobody knows whose it is before the next request.
    const { firstToAsk, lastToAsk } = this.accounts;
    const now = this.accounts.whoIs();
    if (kind === "sum" && id === 1 && value === "ada" && (lastToAsk !== now || firstToAsk === now)) return false;
    if (kind === "brought" && id === 1 && value === "ada" && this.broughtTo === now) return false;
    const theirs: unknown[] = [undefined, who];
    if (kind === "open" || kind === "mixed") theirs.push("all");
    if (kind === "open") theirs.push(`${who} has marked it`);
    return !whose(value).every((each) => theirs.includes(each));
  }

  /** At any time: nobody is shown another's. */
  check(): void {
    const { accounts, who } = this;
    if (accounts.odd) throw new Error(`F9: ${accounts.odd}`);
    const { way } = this.page;
    if (way.startsWith("late") || way === "partition") return; // known by what was said last; all one person's
    for (const kind of kinds) {
      if (kind === "open") continue; // its marks are of whoever wrote them
      if (isBrought(kind) && this.taken < this.page.looksAfter) continue;
      if (kind === "brought") this.lookAtBrought();
      for (const id of [0, 1, 2]) {
        const { value, provisional } = this.cache.peek(this.sources[kind], id);
        if (provisional) continue; // made anew at the first request
        if (this.isAnothers(kind, id, value))
          throw new Error(`F9: ${kind} ${id} of ${JSON.stringify(value)} is held for ${who}`);
      }
    }
    const isHeardOf = accounts.lastToAsk === accounts.whoIs();
    for (const { kind, id, view, since } of this.watched) {
      const { value, provisional } = view.get();
      if (provisional && isHeardOf && this.isAnothers(kind, id, value))
        throw new Error(`F9: ${JSON.stringify(value)} stands in for ${kind} ${id} of ${who}`);
      if (since === accounts.changes && this.isAnothers(kind, id, value))
        throw new Error(`F9: ${who} came to watch ${kind} ${id}, and is shown ${JSON.stringify(value)}`);
    }
  }

  /** Whoever asks is known: all that is watched is theirs. */
  async checkRest(): Promise<void> {
    const { streams } = this.accounts;
    this.check();
    for (const stream of streams) stream.send();
    for (let round = 0; round < 5; round++) await this.clock.advance(0);
    const isWatched = this.watched.some(({ kind }) => kind === "news");
    if (streams.size !== (isWatched ? 1 : 0)) throw new Error(`F9: ${streams.size} streams are open`);
    for (const { who } of streams) {
      if (who !== this.accounts.whoIs())
        throw new Error(`F9: the stream of ${who} is open for ${this.accounts.whoIs()}`);
    }
    if (this.accounts.isUnsteady) return; // nothing that is held is for anybody
    for (const { kind, id, view } of this.watched) {
      const { state, value, failure, request } = view.get();
      const isDone = kind === "news" || request === "none";
      const refused = (failure?.body as { person?: string } | undefined)?.person;
      const isTheirs = this.page.way === "partition" || !this.isAnothers(kind, id, refused ?? value);
      const isDue = (kind === "refused" || kind === "dear") && isRefused(this.who) ? "failed" : "ready";
      if (!isDone || (kind !== "news" && state !== isDue) || !isTheirs)
        throw new Error(
          `F9: at rest ${kind} ${id} is ${state} with ${JSON.stringify(refused ?? value)}, and ${this.who} asks (${request})`,
        );
    }
  }
}

/** What a composite is made of, where it is one source. */
const partOf: Partial<Record<Kind, string>> = { sum: "unused", dear: "refused" };

/** Of whom a value tells. */
function whose(value: unknown): readonly unknown[] {
  const { items } = (value ?? {}) as Partial<Pages<Item>>;
  return items ? items.map(({ person }) => person) : [value].flat();
}
