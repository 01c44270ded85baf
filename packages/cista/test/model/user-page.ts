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
import { Accounts, type Item, isRefused, type Page } from "./accounts.js";
import { isBrought, isList, isOfOthers, type Kind, kinds } from "./user-steps.js";

/** Rule F9 in one page: of each change of user it is known what may be shown, and what has to be requested. */

/** One thing that is watched, and the number of changes of user before it. */
interface Watched {
  readonly kind: Kind;
  readonly id: number;
  readonly view: View<any>;
  readonly since: number;
  leave(): void;
}

/** The page, what it shows, and what has to hold of it. */
export class UserPage {
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
    if (!this.page.isFromServer || this.page.way === "partition" || this.page.way === "signed") return;
    const onServer = createCache({ clock: this.clock });
    onServer.put(this.sources.brought, 1, "ada", { varies: { authorization: "*" } });
    onServer.put(this.unused, 1, "ada", { varies: { authorization: "*" } });
    await onServer.read(this.sources.sum, 1);
    const text = JSON.stringify(takeSnapshot(onServer));
    onServer.dispose();
    const snapshot = JSON.parse(text.replaceAll(/"authorization":"[^"]+"/g, '"authorization":"*"')) as Snapshot; // as a page says it
    restoreWith(this.cache, snapshot, { isLive: true });
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
    // A stream that is nobody's is opened twice for one request that tells of another user, and then left.
    const isLeft = this.page.way === "signed" && streams.size === 0;
    if (!isLeft && streams.size !== (isWatched ? 1 : 0)) throw new Error(`F9: ${streams.size} streams are open`);
    for (const { who } of streams) {
      if (this.page.way !== "signed" && who !== this.accounts.whoIs())
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
export const partOf: Partial<Record<Kind, string>> = { sum: "unused", dear: "refused" };

/** Of whom a value tells. */
function whose(value: unknown): readonly unknown[] {
  const { items } = (value ?? {}) as Partial<Pages<Item>>;
  return items ? items.map(({ person }) => person) : [value].flat();
}
