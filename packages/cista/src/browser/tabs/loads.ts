/** How the loads of joined tabs share one request: by a lock for each key while it is asked for. Rules B1, B2, B4, B6, B8. */

import { isIterable } from "../../core/doors/answers.js";
import type { Answer, CompositeContext, LoadCall } from "../../core/index.js";
import { askerOf, Failures, failureIn, isFor, toldFailure } from "./failures.js";
import type { Hub } from "./hub.js";
import { answerIn, type Body, type News } from "./messages.js";
import { graceForSign, nextHeard } from "./patience.js";
import type { TabLocks } from "./platform.js";
import { Recent } from "./recent.js";
import { untilLost } from "./streams.js";
import type { Turn } from "./turn.js";
import { Turns } from "./turns.js";
import { Wait } from "./wait.js";

export class Loads {
  readonly #hub: Hub;
  readonly #waits = new Map<string, Wait>();
  readonly #turns: Turns;
  /** When each load under way began. */
  readonly #begun = new Map<string, number>();
  /** Keys whose values are each tab's own. */
  readonly #own = new Recent<string, true>();
  readonly #failures = new Failures();
  /** News that loads have answered with, by key, in order, until the cache holds them. */
  readonly #taken = new Map<string, News[]>();
  /** The load of each key that has the key's turn, or waits for it. */
  readonly #asking = new Map<string, LoadCall>();
  /** The streams that this tab has open, by key. A new stream of a key begins before the one in its place has ended. */
  readonly #open = new Map<string, { readonly stream: AsyncIterable<unknown>; readonly turn: Turn | undefined }>();

  constructor(hub: Hub) {
    this.#hub = hub;
    this.#turns = new Turns(
      (key) => hub.lockName(key),
      (delay, callback) => hub.after(delay, callback),
      (key) => this.#waits.get(key)?.wake(),
    );
  }

  // ── A load ─────────────────────────────────────────────────────────────────

  load(call: LoadCall, proceed: () => unknown): unknown {
    const { key } = call;
    const hub = this.#hub;
    if (call.context.mode === "no-store") return proceed(); // nothing of it is kept
    if (hub.isFrozen) return hub.ready().then(() => this.load(call, proceed));
    this.#begun.set(key, hub.moments.next());
    if (hub.isClosed || !hub.isShared(call)) {
      this.setOwn(key, true);
      return proceed();
    }
    // Where there are no locks each tab asks for itself, and tells its answers.
    if (!hub.locks || hub.isAlone || this.#own.has(key)) return this.#alone(call, proceed);
    return this.#together(call, proceed, hub.locks);
  }

  async #alone(call: LoadCall, proceed: () => unknown, turn?: Turn): Promise<unknown> {
    const came = await proceed();
    if (call.dependsOn.length > 0) this.setOwn(call.key, true);
    return isIterable(came) ? this.#lead(call, came, turn) : came;
  }

  async #together(call: LoadCall, proceed: () => unknown, locks: TabLocks): Promise<unknown> {
    const { key, context } = call;
    const hub = this.#hub;
    const { signal } = context;
    await hub.ready();
    signal.throwIfAborted();
    const known = context.cause === "manual" ? undefined : hub.known(key);
    if (known && known.opened === undefined) return this.#answer(known);
    this.#failures.refuseKnown(call, hub.now());
    const wait = new Wait(this.#since(call), hub.now());
    this.#waits.set(key, wait);
    // A load that was outrun is over, but its turn is still held: the load in its place goes on with it.
    const isOver = !this.#asking.has(key) && !this.#open.has(key);
    const turn = this.#turns.take(key, locks, isOver);
    signal.addEventListener("abort", () => this.#leave(key, wait, turn), { once: true });
    if (known) return this.#follow(call, proceed, wait, turn, known);
    this.#asking.set(key, call);
    let asker: ReturnType<typeof askerOf>;
    try {
      const heard = await this.#nextFor(call, wait, turn);
      if (heard === "turn" || heard === "own") {
        this.#endWait(key, wait);
        if (!turn.has) turn.leave();
        asker = askerOf(call);
        return await this.#ask(call, proceed, turn);
      }
      if (heard.kind === "failed") throw failureIn(heard);
      if (heard.news.opened !== undefined) return this.#follow(call, proceed, wait, turn, heard.news);
      this.#leave(key, wait, turn);
      return this.#answer(heard.news);
    } catch (thrown) {
      this.#endWait(key, wait);
      this.#endAsking(call);
      if (turn.has && !signal.aborted) {
        hub.tell(toldFailure(call, thrown, this.#begun.get(key) ?? 0, asker));
        this.finish(key);
      } else turn.leave();
      throw thrown;
    } finally {
      this.#endAsking(call);
    }
  }

  /** The next thing that is heard, but for failures that are another user's: those leave the wait as it is. */
  async #nextFor(call: LoadCall, wait: Wait, turn: Turn): ReturnType<typeof nextHeard> {
    for (;;) {
      const heard = await nextHeard(this.#hub, call.key, wait, turn, call.context.signal);
      if (typeof heard === "string" || heard.kind !== "failed" || isFor(call, heard)) return heard;
    }
  }

  /** The moment of the oldest value that will do. */
  #since({ key, context: { cause, mode } }: LoadCall): number {
    // A request for a new user has the mode "reload" because of HTTP caches. A value of another tab is checked for its user.
    const isAnew = cause === "manual" || (mode !== "default" && cause !== "invalidated" && cause !== "user");
    return isAnew ? (this.#begun.get(key) ?? 0) : this.#hub.moments.of(key).invalidatedAt;
  }

  /** It is ours to ask. */
  async #ask(call: LoadCall, proceed: () => unknown, turn: Turn): Promise<unknown> {
    const { key, context } = call;
    // An entry that is each tab's own is requested without a turn: no other tab can take that away.
    const held = turn.isOver ? undefined : turn;
    this.#begun.set(key, this.#hub.moments.next());
    // A composite is each tab's own: its dependencies are told (rule B4).
    const { read } = context as CompositeContext;
    const readPart = (...question: Parameters<typeof read>) => {
      if (!this.#own.has(key)) {
        this.setOwn(key, true);
        this.#hub.tell({ kind: "own", key });
        turn.leave();
      }
      return read.apply(context, question);
    };
    Object.defineProperty(context, "read", { value: readPart });
    return this.#alone(call, proceed, held);
  }

  #answer(news: News): Answer<unknown> {
    const taken = this.#taken.get(news.key);
    if (taken) taken.push(news);
    else this.#taken.set(news.key, [news]);
    return answerIn(news, this.#hub.moments.now());
  }

  #leave(key: string, wait: Wait, turn: Turn): void {
    this.#endWait(key, wait);
    turn.leave();
  }

  #endWait(key: string, wait: Wait): void {
    if (this.#waits.get(key) === wait) this.#waits.delete(key);
  }

  #endAsking(call: LoadCall): void {
    if (this.#asking.get(call.key) === call) this.#asking.delete(call.key);
  }

  // ── Streams: one tab has it open, the others follow ────────────────────────

  async *#lead(
    { key, context }: LoadCall,
    stream: AsyncIterable<unknown>,
    given: Turn | undefined,
  ): AsyncGenerator<unknown> {
    const { locks, isClosed } = this.#hub;
    // One that was alone takes the place all the same: a tab that comes later finds the stream open.
    const turn = given ?? (locks && !isClosed && !this.#own.has(key) ? this.#turns.take(key, locks, false) : undefined);
    // The stream may be left before the lock is ours: then nothing else gives it back.
    if (!given) context.signal.addEventListener("abort", () => turn?.leave(), { once: true });
    let hasEnded = false;
    this.#open.set(key, { stream, turn });
    try {
      yield* untilLost(stream, (lose) => turn && this.#turns.whenLost(turn, lose));
      hasEnded = true; // told, before its place is another's
    } finally {
      if (this.#open.get(key)?.stream === stream) this.#open.delete(key);
      if (!hasEnded) turn?.leave();
    }
  }

  async *#follow(call: LoadCall, proceed: () => unknown, wait: Wait, turn: Turn, first: News): AsyncGenerator<unknown> {
    const { key } = call;
    wait.isFollowing = true;
    try {
      yield this.#answer(first);
      for (;;) {
        const heard = await this.#nextFor(call, wait, turn);
        if (heard === "turn" || heard === "own") break;
        if (heard.kind === "failed") throw failureIn(heard);
        yield this.#answer(heard.news);
        if (heard.news.opened === undefined) return; // it has ended
      }
      this.#endWait(key, wait);
      const came = await this.#ask(call, proceed, turn);
      if (isIterable(came)) yield* came;
      else yield came;
    } finally {
      this.#leave(key, wait, turn);
    }
  }

  // ── Messages heard ─────────────────────────────────────────────────────────

  /** Another tab has a stream of the key open. Where this tab's is open before its lock has come, this tab follows the other. */
  yieldStream(key: string): void {
    const turn = this.#open.get(key)?.turn;
    if (turn && !turn.has) turn.lose();
  }

  /** @returns whether a load has been waiting for it */
  take(news: News, isNews: boolean): boolean {
    const { key, at } = news;
    const wait = this.#waits.get(key);
    if (isNews) {
      this.#own.delete(key);
      this.#failures.delete(key);
    }
    if (!wait || at < wait.since) return false;
    // A known value does for a load that waits for just that. To a load that follows it says that the stream has ended.
    if (!isNews && wait.isFollowing && news.opened !== undefined) return false;
    wait.feed({ kind: "news", news }, this.#hub.now());
    return true;
  }

  /** It was told that a value is as it was, and this tab holds another or none: a load that waits for it asks for the value. */
  wantWhole({ key, at }: News): void {
    const wait = this.#waits.get(key);
    if (wait && at >= wait.since) this.#hub.tell({ kind: "wants", key, since: wait.since });
  }

  /** The keys of news that one tab has told up to a moment, and that loads answer with: the cache does not hold them yet. */
  comingBy(tab: string, until: number): string[] {
    const coming = [...this.#taken.values(), ...[...this.#waits.values()].map(({ heard }) => heard)].flat();
    return coming.filter(({ by, at }) => by === tab && at <= until).map(({ key }) => key);
  }

  /** The cache holds what a load has answered with. */
  adopted(key: string): void {
    const news = this.#taken.get(key)?.shift();
    if (news) this.#hub.moments.hold(key, news.at, news.by, news.opened);
  }

  /** What a load has answered with is held by the cache, or never will be. */
  forgetTaken(key: string): void {
    this.#taken.delete(key);
  }

  hear(message: Extract<Body, { kind: "own" | "failed" | "wants" | "asks" | "alive" }>): void {
    const { key, kind } = message;
    const now = this.#hub.now();
    const wait = this.#waits.get(key);
    if (kind === "own") {
      this.setOwn(key, true);
      wait?.feed({ kind }, now);
    } else if (kind === "failed") {
      this.#failures.note(message, now);
      if (wait && message.at >= wait.since) wait.feed(message, now);
    } else if (kind === "alive") {
      wait?.sign(now);
    } else if (this.#turns.has(key) && !this.#hub.isFrozen) {
      // The value was told, and does for those who wait; or the lock is all that keeps the tab from asking.
      if (this.#own.has(key)) {
        // No load waits for it, nor for its stream to end.
        this.#hub.tell({ kind: "own", key });
        this.#turns.release(key);
        return;
      }
      const latest = () => Math.max(this.#hub.moments.of(key).at, this.openedAt(key) ?? 0);
      const isEnough = kind === "asks" || !this.isTellable(key) || latest() >= message.since;
      if (isEnough) this.#hub.tell({ kind: "alive", key });
      else this.#turns.pass(key); // a stream is opened anew by whoever has asked for it
    } else if (wait && kind === "asks" && now - wait.lastSign >= graceForSign) {
      // That tab asks for this tab too. A sign of the last second may be the answer: messages of two tabs overtake each other.
      wait.askedAt ||= now;
      this.#hub.after(graceForSign, wait.wake);
    }
  }

  // ── Messages told ──────────────────────────────────────────────────────────

  /** The request is over and has been told of, or there is nothing to tell but that. */
  finish(key: string): void {
    if (!this.#open.has(key) && !this.#asking.has(key)) this.#turns.finish(key);
  }

  /** A value of its stream was invalidated meanwhile: the stream is opened anew by the tab that has asked for it. */
  passInvalidated(key: string): void {
    const opened = this.openedAt(key);
    const hasBrought = opened !== undefined && this.#hub.moments.of(key).opened === opened;
    if (hasBrought && !this.#hub.isFrozen) this.#turns.pass(key);
  }

  /** The request is over, and no other tab needs to know. */
  release(key: string): void {
    this.#turns.release(key);
  }

  /** Its entry has been let go: nothing of it is remembered. */
  forget(key: string): void {
    for (const memory of [this.#own, this.#failures, this.#begun, this.#taken]) memory.delete(key);
  }

  /** Forgets which keys are each tab's own. For a new user the other tabs may hold the right values. */
  forgetOwn(): void {
    this.#own.clear();
  }

  isOwn(key: string): boolean {
    return this.#own.has(key);
  }

  setOwn(key: string, isOwn: boolean): void {
    if (isOwn) this.#own.set(key, true);
    else this.#own.delete(key);
  }

  hasTurn(key: string): boolean {
    return this.#turns.has(key);
  }

  /** Whether a tab may have missed its last message: an open stream's last value, or an answer that has just come. */
  isTellable(key: string): boolean {
    return this.#open.has(key) || this.#turns.isLingering(key);
  }

  /** Whether its stream is open: in this tab, or in one that it follows. */
  isStreaming(key: string): boolean {
    return this.#open.has(key) || this.#waits.get(key)?.isFollowing === true;
  }

  /** Of a stream that this tab has open: when it was opened. */
  openedAt(key: string): number | undefined {
    return this.#open.has(key) ? (this.#begun.get(key) ?? 0) : undefined;
  }

  /** Moves the beginnings of this tab's loads, after a correction of its clock. @param length milliseconds */
  shift(length: number): void {
    for (const [key, at] of this.#begun) this.#begun.set(key, at + length);
  }

  /** When the load began that is under way, or has just ended. */
  begunAt(key: string): number | undefined {
    return this.#begun.get(key);
  }

  isAwaited(key: string): boolean {
    return this.#waits.has(key);
  }

  // ── The page's life ────────────────────────────────────────────────────────

  freeze(): void {
    this.#turns.freeze();
  }

  thaw(): void {
    this.#turns.thaw();
    for (const wait of this.#waits.values()) wait.wake();
  }

  close(): void {
    this.#turns.close();
    for (const wait of this.#waits.values()) wait.wake();
  }

  clear(): void {
    this.#own.clear();
    this.#failures.clear();
    this.#begun.clear();
    this.#taken.clear();
  }
}
