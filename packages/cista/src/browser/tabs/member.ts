/** One tab among joined ones: the messages that it tells, and those that it hears. Rules B1 to B8. */

import { clockOf, partitionOf } from "../../core/doors/caches.js";
import { type Change, onChange, onUserChanged, plainSelector } from "../../core/doors/sharing.js";
import {
  type Cache,
  CistaError,
  entriesOf,
  intercept,
  type JournalEvent,
  journalOf,
  type Source,
} from "../../core/index.js";
import { Changes } from "./changes.js";
import { kindsHeard, noteHappened } from "./happened.js";
import { Hearing, type Return } from "./hearing.js";
import type { Hub } from "./hub.js";
import { Loads } from "./loads.js";
import { type Body, formVersion, type Message, mostOthers, type News, wellFormedMessage } from "./messages.js";
import { Moments } from "./moments.js";
import type { LifeEvent, TabChannel, TabLocks, TabPlatform } from "./platform.js";
import { Telling } from "./telling.js";
import { Timers } from "./timers.js";
import { aloneAfter, Greetings, Welcome } from "./welcome.js";

export interface MemberOptions {
  readonly name: string;
  readonly version: string;
  readonly sources: readonly Source<any, any>[] | undefined;
}

/** A message of so long ago, in milliseconds, has been heard by all. */
const recently = 5000;

export class Member implements Hub {
  readonly moments: Moments;
  readonly locks: TabLocks | undefined;
  isFrozen = false;
  isClosed = false;
  readonly others: Set<string> = new Set();
  readonly #cache: Cache;
  readonly #platform: TabPlatform;
  readonly #scope: string;
  readonly id: string;
  readonly #changes: Changes;
  readonly #telling: Telling;
  readonly #hearing: Hearing;
  readonly #sources: ReadonlySet<string> | undefined;
  readonly #loads: Loads;
  readonly #ends: (() => void)[] = [];
  readonly #timers: Timers;
  readonly #welcome: Welcome = new Welcome(this);
  readonly ready: Hub["ready"] = () => this.#welcome.ready();
  readonly mayTell: Hub["mayTell"] = () => this.#welcome.mayTell();
  readonly after: Hub["after"] = (delay, callback) => this.#timers.after(delay, callback);
  #channel: TabChannel | undefined;
  /** When it joined, or came back. */
  #joinedAt = 0;
  readonly #greetings: Greetings = new Greetings(this, {
    tellChanges: () => {
      for (const change of this.#changes.ownSince(this.moments.next() - recently)) this.tell(change);
    },
    tellAll: (to) => this.#telling.tellAll(to, [...this.others]),
  });
  /** Sources that this tab has used: of others it takes nothing in. */
  readonly #used = new Set<string>();
  /** Whether it has been told by which clock the others go. */
  #hasJoined = false;
  /** Since it came back, until it has heard the others' values. */
  #return: Return | undefined;

  constructor(cache: Cache, { name, version, sources }: MemberOptions, platform: TabPlatform) {
    this.#cache = cache;
    this.#timers = new Timers(clockOf(cache));
    this.#platform = platform;
    this.locks = platform.locks;
    this.#sources = sources && new Set(sources.map((source) => source.name));
    // Rule B7: another version of the application, another form or another user is another channel.
    this.#scope = `cista tabs ${formVersion} ${JSON.stringify([name, version, partitionOf(cache) ?? null])}`;
    this.id = (clockOf(cache).uniqueText?.() ?? "").slice(0, 12);
    this.moments = new Moments(() => platform.now());
    this.#loads = new Loads(this);
    this.#changes = new Changes(cache, this.moments);
    this.#telling = new Telling(cache, this, this.#loads);
    this.#hearing = new Hearing(cache, this, this.#loads, this.#changes, this.#telling);
    this.#begin();
  }

  get isAlone(): boolean {
    return this.others.size === 0 && this.now() - this.#joinedAt > aloneAfter;
  }

  lockName(about: string): string {
    return `${this.#scope} ${about}`;
  }

  now(): number {
    return this.#platform.now();
  }

  isShared({ source, definition }: { source: string; definition: { noStore?: boolean } }): boolean {
    this.#used.add(source);
    return !definition.noStore && this.isNamed(source);
  }

  isNamed(source: string): boolean {
    return this.#sources?.has(source) !== false;
  }

  isUsed(source: string): boolean {
    return this.#used.has(source);
  }

  isDoubted(key: string): boolean {
    return this.#return !== undefined && this.#hearing.isDoubted(key, this.#return);
  }

  known(key: string): News | undefined {
    return this.#hearing.known(key);
  }

  // ── Joining and leaving ────────────────────────────────────────────────────

  #begin(): void {
    for (const { key, source, reading } of entriesOf(this.#cache)) {
      this.#used.add(source);
      if (reading.state === "ready" || reading.state === "missing") this.moments.hold(key, 0, "");
    }
    this.#ends.push(
      journalOf(this.#cache).subscribe((event) => this.#happened(event), kindsHeard),
      onChange(this.#cache, (change) => this.#changed(change)),
      intercept(this.#cache, { load: (call, proceed) => this.#loads.load(call, proceed) }),
      this.#cache.onSignOut(() => this.#signedOut()),
      onUserChanged(this.#cache, () => this.#userChanged()),
      this.#platform.onLife((event) => this.#live(event)),
    );
    this.#open();
  }

  #open(): void {
    this.#channel = this.#platform.open(this.#scope, (data) => this.#hear(data));
    this.#greet();
  }

  /** Rule B5: a tab that is new, or has been away, does not trust its values before it has heard those of the others. */
  #greet(): void {
    this.#joinedAt = this.now();
    this.#welcome.begin();
    this.tell({ kind: "hello" });
  }

  #freeze(): void {
    if (this.isFrozen) return;
    this.isFrozen = true;
    this.#welcome.freeze();
    this.#loads.freeze();
  }

  close(): void {
    if (this.isClosed) return;
    this.tell({ kind: "bye" });
    this.isClosed = true;
    for (const end of this.#ends) end();
    this.#loads.close();
    this.#welcome.release();
    this.#timers.clear();
    this.#channel?.close();
    this.#channel = undefined;
  }

  #live(event: LifeEvent): void {
    if (event === "leave") this.tell({ kind: "bye" });
    if (event === "freeze" || event === "leave") this.#freeze();
    // A message on an open channel would throw a page out of the browser's cache of pages.
    if (event === "leave") {
      this.#channel?.close();
      this.#channel = undefined;
      return;
    }
    if (event === "freeze" || !this.isFrozen) return;
    this.isFrozen = false;
    if (event === "return") this.#comeBack();
    else this.#greet(); // what was told meanwhile comes first, in its order
    this.#loads.thaw();
  }

  /** It was told no change meanwhile: values that the others do not confirm are checked. */
  #comeBack(): void {
    const own = { at: this.moments.next(), confirmed: new Set<string>() };
    this.#return = own;
    this.#hearing.clear(); // what the others held when it came first
    this.#open();
    void this.ready().then(() => {
      if (this.#return === own) this.#return = undefined; // it may have been away once more
      if (this.isClosed || this.isFrozen) return;
      this.#hearing.distrust(own);
    });
  }

  #signedOut(): void {
    this.moments.clear();
    for (const memory of [this.#changes, this.#telling, this.#hearing, this.#loads]) memory.clear();
    this.tell({ kind: "signed-out", at: this.moments.next() });
  }

  // ── The channel ────────────────────────────────────────────────────────────

  tell(body: Body): void {
    if (this.isClosed) return;
    this.#channel?.post({ v: formVersion, from: this.id, ...body });
  }

  #hear(data: unknown): void {
    const message = this.isClosed ? undefined : wellFormedMessage(data, this.moments.latest());
    if (!message || message.from === this.id) return;
    try {
      this.#takeIn(message);
    } catch (thrown) {
      if (!(thrown instanceof CistaError)) throw thrown; // a selector whose params can make no key, for example
    }
  }

  #takeIn(message: Message): void {
    if (message.kind !== "bye") this.#note(message.from);
    switch (message.kind) {
      case "bye":
        this.others.delete(message.from);
        break;
      case "hello":
        this.#greetings.add(message.from);
        break;
      case "here":
        for (const other of message.others) this.#note(other);
        this.#takeWelcome(message.to, message.at, message.news);
        break;
      case "news":
        for (const news of message.news) this.#takeNews(news);
        break;
      case "change":
        this.#heard(message.at);
        this.#hearing.change(message);
        break;
      case "signed-out":
        this.#hearing.forgetOf(message.from, message.at);
        break;
      default:
        this.#loads.hear(message);
        if (message.kind === "wants") this.#tellAgain(message.key);
    }
  }

  #tellAgain(key: string): void {
    if (this.#loads.isTellable(key) && !this.#telling.tellAgain(key)) this.#loads.passInvalidated(key);
  }

  #note(other: string): void {
    if (other !== this.id && this.others.size < mostOthers) this.others.add(other);
  }

  #takeWelcome(to: readonly string[], at: number, all: readonly News[]): void {
    this.#greetings.note(to);
    if (!to.includes(this.id)) return;
    // A tab that hung receives its welcome late. The moment in the welcome has passed by then.
    if (this.now() - this.#joinedAt > aloneAfter) this.#heard(at);
    else if (!this.#hasJoined) this.#shift(this.moments.join(at));
    this.#hasJoined = true;
    for (const news of all) {
      this.#takeNews(news, true);
      this.#return?.confirmed.add(news.key);
    }
    this.#welcome.end();
  }

  // ── Changes made here ──────────────────────────────────────────────────────

  #happened(event: JournalEvent): void {
    if (event.source === undefined) return;
    if (event.from !== undefined) {
      if (event.key !== undefined) this.#loads.adopted(event.key);
      return;
    }
    this.#used.add(event.source);
    if (event.kind === "restore") this.#hearing.restored(event.key as string);
    else noteHappened(event, this, this.#loads, this.#telling);
  }

  #changed({ kind, selectors, keys, isHeard }: Change): void {
    if (kind === "put" || isHeard) return; // a put is told with its value
    const plain = selectors.flatMap((selector) => plainSelector(selector) ?? []);
    const at = this.moments.nextChange();
    const isFirst = this.#changes.add({ kind: "change", change: kind, at, selectors: plain, keys: [...keys] });
    if (this.#welcome.wasOver) this.#tellChanges();
    else if (isFirst) void this.mayTell().then(() => this.#tellChanges());
  }

  #tellChanges(): void {
    this.#changes.tellUntold((change) => this.tell(change));
  }

  // ── Changes made elsewhere ─────────────────────────────────────────────────

  #takeNews(news: News, isWelcome = false): void {
    this.#heard(news.at);
    this.#hearing.take(news, isWelcome);
  }

  /** Where this tab's clock is behind another's, its changes so far count as so much later, and are told again. */
  #heard(at: number): void {
    const behind = this.moments.heard(at);
    if (behind === 0) return;
    this.#shift(behind);
    for (const change of this.#changes.ownSince(0)) this.tell(change);
    this.#telling.tellOwn();
  }

  /** Rule F9: the tab forgets what it noted for the user before. It then takes the new user's values from the other tabs. */
  #userChanged(): void {
    this.#loads.forgetOwn();
    this.#hearing.forgetForeign();
  }

  #shift(length: number): void {
    if (length === 0) return;
    this.moments.shift(this.id, length);
    this.#changes.shift(length);
    this.#loads.shift(length);
  }
}
