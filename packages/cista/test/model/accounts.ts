import type { Clock } from "cista";
import { json } from "../hostile-server.js";

/** Who asks in a page, and what the server says to each: for the random programs in which the user changes. */

export const latency = 10;
/** Of a list's second page: the user may change, and be answered, meanwhile. */
const latencyOfMore = 25;
const people = ["ada", "bob", "cy", "dee"] as const;
type Person = (typeof people)[number];

/** Who may not see the pages named so. */
export function isRefused(person: string): boolean {
  return person === "ada" || person === "cy" || person === "nobody";
}

/** How it is said who asks; "unsteady": with another field each time; "signed": with a token that is another for each request. */
export type Way = "token" | "late" | "user" | "late user" | "partition" | "unsteady" | "signed";
export const ways: Way[] = ["token", "late", "user", "late user", "partition", "unsteady", "signed"];

export interface Page {
  readonly way: Way;
  /** The server has another origin than the page: the browser's cache stands between them. */
  readonly isElsewhere: boolean;
  /** The page came from the server, with a value for whoever opens it. */
  readonly isFromServer: boolean;
  /** Nobody has signed in at first. */
  readonly isAnonymous: boolean;
  /** The page requests something before anything else happens. */
  readonly asksFirst: boolean;
  /** After how many steps somebody looks at what came with the page. */
  readonly looksAfter: number;
}

/** "back": as whoever asked before. */
export type Change = "person" | "nobody" | "token" | "renewed" | "back";

export interface Item {
  readonly id: string;
  readonly person: string;
}

/** One page's users and their tokens, and the server. */
export class Accounts {
  /** By token: whose it is, and which of that person's sessions. */
  readonly #tokens = new Map<string, { person: Person; session: number }>();
  readonly #expired = new Set<string>();
  person: Person | undefined = "ada";
  token = "";
  #before: [Person | undefined, string] = ["ada", ""];
  serial = 100;
  /** Of the lists: those with an odd number have the same items. */
  version = 1;
  /** Changes of user so far. */
  changes = 0;
  /** What is flaky is answered with 503. */
  isFailing = false;
  /** Since whoever asks was known; after more than five what is watched may be left. */
  inARow = 0;
  /** Since then a token has run out. */
  isExpired = false;
  /** Until when a renewal may be under way. */
  #renewingUntil = 0;
  /** Paths that were requested. */
  requested: string[] = [];
  /** For whom each path was last answered, and for whom the cache holds a value of it: a session, "nobody" or "all". */
  readonly answered = new Map<string, string>();
  readonly held = new Map<string, string>();
  readonly streams = new Set<{ who: string; send(): void }>();
  /** Who made the first request of all, and said who they are. */
  firstToAsk: string | undefined;
  lastToAsk: string | undefined;
  /** What was wrong in the middle of something. */
  odd: string | undefined;

  constructor(
    readonly page: Page,
    readonly clock: Clock,
  ) {
    const { way, isAnonymous, isFromServer } = page;
    this.signIn(isAnonymous && !isFromServer && way !== "late" && way !== "partition" ? undefined : "ada");
  }

  /** The options of the origin. */
  options(): object {
    const { way } = this.page;
    const fields = () => ({
      ...(this.token ? { authorization: way === "signed" ? `${this.token} ${++this.serial}` : this.token } : {}),
      "accept-language": "en",
      ...(way === "unsteady" ? { "x-time": String(++this.serial) } : {}),
    });
    return {
      headers: way.startsWith("late")
        ? async () => {
            const said = fields();
            await this.later(3);
            return said;
          }
        : fields,
      ...(way.endsWith("user") ? { user: () => this.person } : {}),
      renew: async () => {
        const { token } = this;
        await this.later(2);
        if (this.token === token) this.#renewToken();
      },
    };
  }

  later(ms: number): Promise<void> {
    return new Promise((resolve) => this.clock.setTimer(resolve, ms));
  }

  /** Nothing that is for one user is held for anybody. */
  get isUnsteady(): boolean {
    return this.page.way === "unsteady" || this.page.way === "signed";
  }

  // ── Who asks ───────────────────────────────────────────────────────────────

  signIn(person: Person | undefined): void {
    this.#before = [this.person, this.token];
    this.person = person;
    this.token = person ? `${person}-${++this.serial}` : "";
    if (person) this.#tokens.set(this.token, { person, session: this.serial });
  }

  #renewToken(): void {
    const before = this.#tokens.get(this.token);
    if (!before) return;
    this.token = `${before.person}-${++this.serial}`;
    this.#tokens.set(this.token, before);
  }

  /** Who asks, by what the page says of it. */
  whoIs(token = this.token): string {
    const { way } = this.page;
    const { person, session } = this.#tokens.get(token) ?? {};
    if (way === "partition") return "all";
    if (way.endsWith("user")) return person ?? "nobody";
    return person ? `${person} ${session}` : "nobody";
  }

  /** Whether the token of whoever asks has run out. */
  get isRefused(): boolean {
    return this.#expired.has(this.token);
  }

  change(how: Change, person: number): void {
    const { way } = this.page;
    if (how === "renewed" && !this.isUnsteady) {
      // Of a second new token that is refused in one request, the request's failure tells.
      if (this.token && !this.isExpired) this.#expired.add(this.token);
      this.isExpired = true;
      return;
    }
    if (this.clock.now() < this.#renewingUntil) return; // by tokens alone, a new one would be the renewed one: see docs/security.md
    this.changes++;
    this.inARow++;
    if (how === "back" && this.#before[1] && !this.#expired.has(this.#before[1])) {
      const now: [Person | undefined, string] = [this.person, this.token];
      [this.person, this.token] = this.#before;
      this.#before = now;
      return;
    }
    const who = how === "token" ? this.person : how === "nobody" ? undefined : people[person % people.length];
    // A partition is one person's. Without `user`, a request without a token does not mean that somebody has left.
    this.signIn(way === "partition" ? "ada" : way.endsWith("user") ? who : (who ?? "ada"));
  }

  changeToNext(): void {
    this.change("person", people.indexOf(this.person ?? "ada") + 1);
  }

  /** A value that a program has put. The browser's cache may hold an answer to another user, and asks with its entity tag. */
  notePut(path: string): void {
    this.held.set(path, this.whoIs());
    this.answered.delete(path);
  }

  // ── What the server says ───────────────────────────────────────────────────

  async answer(url: URL, init: RequestInit & { headers: Headers }): Promise<Response> {
    const path = url.pathname;
    const [token = ""] = (init.headers.get("authorization") ?? "").split(" ");
    const person = this.#tokens.get(token)?.person ?? "nobody";
    this.lastToAsk = this.whoIs(token);
    if (person !== "nobody") this.firstToAsk ??= this.whoIs(token);
    this.requested.push(path);
    if (this.page.way === "late user" && person !== (this.person ?? "nobody"))
      this.odd = `${path} is asked for with the token of ${person}, and ${this.person} asks`;
    this.#checkMode(path, token, init);
    await this.later(path.endsWith("/more") ? latencyOfMore : latency);
    if (init.signal?.aborted) throw init.signal.reason;
    if (this.#expired.has(token)) {
      this.#renewingUntil = this.clock.now() + 20;
      return new Response(null, { status: 401 });
    }
    if (init.method === "POST") return json(person);
    const isOpen = /^.(open|mixed).[0-9]+$/.test(path);
    const vary = { vary: this.page.way === "unsteady" && !isOpen ? "x-time" : "accept-language" };
    if (path === "/news") return this.#stream(person, token, init.signal);
    if (path.startsWith("/flaky") && this.isFailing) return json({ person }, {}, 503);
    for (const known of [this.answered, this.held]) known.set(path, isOpen ? "all" : this.whoIs(token));
    if (path.startsWith("/refused") && isRefused(person)) return json({ person }, {}, 403);
    // A server that takes the answers of all users for one representation.
    const isList = /^.(list|mixed)/.test(path);
    const etag = { etag: `"${isList ? this.version : 0}"` };
    const control = {
      "cache-control": `${isOpen ? "public" : "private"}, max-age=86400${path.startsWith("/row") ? ", must-revalidate" : ""}`,
      ...etag,
      ...vary,
    };
    if (init.headers.get("if-none-match") === etag.etag && !path.startsWith("/open"))
      return new Response(null, { status: 304, headers: control });
    const who = isOpen ? "all" : person;
    if (!isList) return json(who, control);
    const link: Record<string, string> = path.endsWith("/more") ? {} : { link: `<${path}/more>; rel="next"` };
    return json([{ id: this.version % 2 ? path : `${path} ${this.version}`, person: who }], { ...control, ...link });
  }

  /** No cache on the way tells one user from another. */
  #checkMode(path: string, token: string, init: RequestInit): void {
    const held = this.answered.get(path);
    if (this.page.isElsewhere && token !== "" && init.cache === "default") this.odd = `${path} is not checked`;
    const isKnown = this.page.isElsewhere && (this.page.way === "token" || this.page.way === "user");
    if (!isKnown || held === undefined || held === "all" || held === this.whoIs(token) || path === "/news") return;
    if (path.startsWith("/refused")) return; // of a failure nothing is held
    if (path.endsWith("/more")) return; // a second page is not held for itself: it is checked with the server
    if (token === this.token && init.cache !== "reload") this.odd = `${path}, another's, is asked for by ${init.cache}`;
  }

  #stream(person: string, token: string, signal: AbortSignal | null | undefined): Response {
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
}
