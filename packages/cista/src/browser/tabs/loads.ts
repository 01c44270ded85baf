/** How the loads of joined tabs share one request: by a lock for each key while it is asked for. Rules B1, B2, B4, B6, B8. */
import { type Answer, answer, Failure, type LoadCall, missing, unchanged } from "../../core/index.js";
import { asFailure, detailsOf } from "../../core/internal.js";
import type { Body, News } from "./messages.js";
import type { Moments } from "./moments.js";
import type { TabLocks } from "./platform.js";
import type { Turn } from "./turn.js";
import { Turns } from "./turns.js";
import { type Heard, Wait } from "./wait.js";

/** What loads need of the tab that they run in. */
export interface Hub {
  /** This tab's name. */
  readonly id: string;
  readonly moments: Moments;
  readonly locks: TabLocks | undefined;
  /** The name of a lock of this group of tabs. */
  lockName(about: string): string;
  now(): number;
  /** Calls back after so many milliseconds. Returns what cancels it. */
  after(delay: number, callback: () => void): () => void;
  tell(body: Body): void;
  /** Nobody else has been heard of, and there was time for it. */
  readonly isAlone: boolean;
  readonly isClosed: boolean;
  readonly isFrozen: boolean;
  /** Resolves when the page goes on, and knows what there is by now. */
  ready(): Promise<void>;
  isShared(call: LoadCall): boolean;
  /** Whether entries of a source are told at all; and whether this tab has used it. */
  isNamed(source: string): boolean;
  isUsed(source: string): boolean;
  /** What the others were known to hold before anybody here asked for it. */
  known(key: string): News | undefined;
}

/** How long whoever waits is patient before it asks for a sign, and how long one may take, in milliseconds. */
const patience = 5000;
const graceForSign = 1000;
/** When whoever waits asks for what it may have missed, such as an open stream's last value. */
const askAfter = 30;
/** How long a failure counts in the other tabs: nobody's try follows another's at once. */
const failureCounts = 2000;

export class Loads {
  readonly #hub: Hub;
  readonly #waits = new Map<string, Wait>();
  readonly #turns: Turns;
  /** When each load under way began. */
  readonly #begun = new Map<string, number>();
  /** Keys whose values are each tab's own. */
  readonly #own = new Set<string>();
  readonly #failures = new Map<string, { at: number; attempt: number; failure: Failure }>();
  /** Keys whose stream this tab has open. */
  readonly #open = new Set<string>();

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
      this.#own.add(key);
      return proceed();
    }
    // Where there are no locks each tab asks for itself, and tells what it has learned.
    if (!hub.locks || hub.isAlone || this.#own.has(key)) return this.#alone(call, proceed);
    return this.#together(call, proceed, hub.locks);
  }

  async #alone(call: LoadCall, proceed: () => unknown, turn?: Turn): Promise<unknown> {
    const came = await proceed();
    if (call.parts.length > 0) this.#own.add(call.key);
    return isIterable(came) ? this.#lead(call.key, came, turn) : came;
  }

  async #together(call: LoadCall, proceed: () => unknown, locks: TabLocks): Promise<unknown> {
    const { key, context } = call;
    const hub = this.#hub;
    const { signal } = context;
    await hub.ready();
    signal.throwIfAborted();
    const known = context.cause === "asked" ? undefined : hub.known(key);
    if (known) return answerIn(known, hub.now());
    this.#refuseKnownFailure(call);
    const wait = new Wait(this.#since(call), hub.now());
    this.#waits.set(key, wait);
    const turn = this.#turns.take(key, locks);
    signal.addEventListener("abort", () => this.#leave(key, wait, turn), { once: true });
    try {
      const heard = await this.#next(key, wait, turn, signal);
      if (heard === "turn" || heard === "own") {
        this.#endWait(key, wait);
        if (!turn.has) turn.leave();
        return await this.#ask(call, proceed, turn);
      }
      if (heard.kind === "failed") throw this.#failures.get(key)?.failure ?? failureIn(heard);
      if (heard.news.opened !== undefined) return this.#follow(call, proceed, wait, turn, heard.news);
      this.#leave(key, wait, turn);
      return answerIn(heard.news, hub.now());
    } catch (thrown) {
      this.#endWait(key, wait);
      if (turn.has && !signal.aborted) {
        this.#tellFailure(call, thrown);
        this.finish(key);
      } else turn.leave();
      throw thrown;
    }
  }

  /** What is older than that will not do. */
  #since({ key, context: { cause, mode } }: LoadCall): number {
    const isAnew = cause === "asked" || (mode !== "default" && cause !== "invalidated");
    return isAnew ? (this.#begun.get(key) ?? 0) : this.#hub.moments.of(key).invalidatedAt;
  }

  /** It is ours to ask. */
  async #ask(call: LoadCall, proceed: () => unknown, turn: Turn): Promise<unknown> {
    const { key, context } = call;
    this.#begun.set(key, this.#hub.moments.next());
    // What reads others is each tab's own: its parts are told (rule B4).
    const { read } = context;
    const readPart = (...question: Parameters<typeof read>) => {
      if (!this.#own.has(key)) {
        this.#own.add(key);
        this.#hub.tell({ kind: "own", key });
        turn.leave();
      }
      return read.apply(context, question);
    };
    Object.defineProperty(context, "read", { value: readPart });
    return this.#alone(call, proceed, turn);
  }

  /** The next thing: our turn, or what another tab tells. Asks whether that is still there, and takes its place where it is not. */
  async #next(
    key: string,
    wait: Wait,
    turn: Turn,
    signal: AbortSignal,
  ): Promise<Exclude<Heard, { kind: "own" }> | "turn" | "own"> {
    const hub = this.#hub;
    const endAsking = hub.after(askAfter, () => {
      if (!turn.has && !turn.isOver) hub.tell({ kind: "wants", key, since: wait.since });
    });
    signal.addEventListener("abort", wait.wake, { once: true });
    try {
      for (;;) {
        signal.throwIfAborted();
        const heard = wait.next();
        if (heard?.kind === "own") return "own";
        // Called out of date since it was heard.
        if (heard?.kind === "news" && heard.news.at <= hub.moments.of(key).invalidatedAt) continue;
        if (heard) return heard;
        if (turn.has) return "turn";
        if (hub.isClosed || (turn.isOver && !hub.isFrozen)) return "own";
        const patient = wait.askedAt > 0 ? graceForSign : wait.lastSign + patience - hub.now();
        const endPatience = hub.after(Math.max(1, patient), wait.wake);
        await wait.changed();
        endPatience();
        if (!turn.has && !wait.hasNext && !signal.aborted && !hub.isFrozen) await this.#watchHolder(key, wait, turn);
      }
    } finally {
      endAsking();
      signal.removeEventListener("abort", wait.wake);
    }
  }

  async #watchHolder(key: string, wait: Wait, turn: Turn): Promise<void> {
    const hub = this.#hub;
    const now = hub.now();
    const { askedAt } = wait;
    if (askedAt === 0) {
      if (now - wait.lastSign < patience) return;
      wait.askedAt = now;
      hub.tell({ kind: "asks", key });
      hub.after(graceForSign, wait.wake);
    } else if (now - askedAt >= graceForSign) {
      // One after the other: timers of hidden pages go off in the same moment in all of them.
      await hub.locks?.request(hub.lockName(`heir ${key}`), {}, async () => {
        if (wait.hasNext || turn.has || turn.isOver || wait.askedAt !== askedAt || hub.isFrozen) return;
        await turn.steal();
        hub.tell({ kind: "alive", key });
      });
    }
  }

  #leave(key: string, wait: Wait, turn: Turn): void {
    this.#endWait(key, wait);
    turn.leave();
  }

  #endWait(key: string, wait: Wait): void {
    if (this.#waits.get(key) === wait) this.#waits.delete(key);
  }

  // ── Streams: one tab has it open, the others follow ────────────────────────

  async *#lead(key: string, stream: AsyncIterable<unknown>, turn: Turn | undefined): AsyncGenerator<unknown> {
    this.#open.add(key);
    const iterator = stream[Symbol.asyncIterator]();
    const step = () =>
      new Promise<IteratorResult<unknown>>((resolve, reject) => {
        const lose = () => reject(new Failure("network", "The stream is opened by another tab.", { retryAfter: 0 }));
        if (turn) this.#turns.whenLost(turn, lose);
        iterator.next().then(resolve, reject);
      });
    try {
      for (let next = await step(); !next.done; next = await step()) yield next.value;
    } finally {
      this.#open.delete(key);
      Promise.resolve(iterator.return?.()).catch(() => {});
      turn?.leave();
    }
  }

  async *#follow(call: LoadCall, proceed: () => unknown, wait: Wait, turn: Turn, first: News): AsyncGenerator<unknown> {
    const { key, context } = call;
    wait.isFollowing = true;
    try {
      yield answerIn(first, this.#hub.now());
      for (;;) {
        const heard = await this.#next(key, wait, turn, context.signal);
        if (heard === "turn" || heard === "own") break;
        if (heard.kind === "failed") throw failureIn(heard);
        yield answerIn(heard.news, this.#hub.now());
      }
      this.#endWait(key, wait);
      const came = await this.#ask(call, proceed, turn);
      if (isIterable(came)) yield* came;
      else yield came;
    } finally {
      this.#leave(key, wait, turn);
    }
  }

  // ── What is heard ──────────────────────────────────────────────────────────

  /** @returns whether a load has been waiting for it */
  take(news: News, isNews: boolean): boolean {
    const { key, at } = news;
    const wait = this.#waits.get(key);
    if (isNews) {
      this.#own.delete(key);
      this.#failures.delete(key);
    }
    if (!wait || at < wait.since) return false;
    // What is known already does for one that waits for just that.
    if (!isNews && wait.isFollowing) return false;
    wait.feed({ kind: "news", news }, this.#hub.now());
    return true;
  }

  hear(message: Extract<Body, { kind: "own" | "failed" | "wants" | "asks" | "alive" }>): void {
    const { key, kind } = message;
    const now = this.#hub.now();
    const wait = this.#waits.get(key);
    if (kind === "own") {
      this.#own.add(key);
      wait?.feed({ kind }, now);
    } else if (kind === "failed") {
      this.#failures.set(key, { at: now, attempt: message.attempt, failure: failureIn(message) });
      if (wait && message.at >= wait.since) wait.feed(message, now);
    } else if (kind === "alive") {
      wait?.sign(now);
    } else if (this.#turns.has(key) && !this.#hub.isFrozen) {
      // What there is was told, and does for whoever waits; or the lock is all that keeps it from asking.
      const isKept = kind === "asks" || !this.#turns.isLingering(key) || this.#hub.moments.of(key).at >= message.since;
      if (isKept) this.#hub.tell({ kind: "alive", key });
      else this.#turns.release(key);
    } else if (wait && kind === "asks") {
      wait.askedAt ||= now; // it asks for us too
      this.#hub.after(graceForSign, wait.wake);
    }
  }

  // ── What is told ───────────────────────────────────────────────────────────

  /** The request is over and has been told of, or there is nothing to tell but that. */
  finish(key: string): void {
    if (!this.#open.has(key)) this.#turns.finish(key);
  }

  /** The request is over, and nobody needs to know. */
  release(key: string): void {
    this.#turns.release(key);
  }

  /** Its entry has been let go: nothing of it is remembered. */
  forget(key: string): void {
    for (const memory of [this.#own, this.#failures, this.#begun]) memory.delete(key);
  }

  isOwn(key: string): boolean {
    return this.#own.has(key);
  }

  setOwn(key: string, isOwn: boolean): void {
    if (isOwn) this.#own.add(key);
    else this.#own.delete(key);
  }

  hasTurn(key: string): boolean {
    return this.#turns.has(key);
  }

  /** Whether somebody may have missed what was told of it: an open stream's last value, or an answer that has just come. */
  isTellable(key: string): boolean {
    return this.#open.has(key) || this.#turns.isLingering(key);
  }

  /** Of a stream that this tab has open: when it was opened. */
  openedAt(key: string): number | undefined {
    return this.#open.has(key) ? (this.#begun.get(key) ?? 0) : undefined;
  }

  /** When the load began that is under way, or has just ended. */
  begunAt(key: string): number | undefined {
    return this.#begun.get(key);
  }

  isAwaited(key: string): boolean {
    return this.#waits.has(key);
  }

  #refuseKnownFailure({ key, context: { cause, attempt } }: LoadCall): void {
    const known = this.#failures.get(key);
    if (!known || cause === "asked" || cause === "invalidated") return;
    if (attempt <= known.attempt && this.#hub.now() - known.at < failureCounts) throw known.failure;
  }

  #tellFailure({ key, context: { attempt } }: LoadCall, thrown: unknown): void {
    const { kind, message, retryable, status, retryAfter } = asFailure(thrown);
    const told = { kind, message, retryable, ...(status === undefined ? {} : { status }) };
    this.#hub.tell({
      kind: "failed",
      key,
      at: this.#begun.get(key) ?? 0,
      attempt,
      failure: retryAfter === undefined ? told : { ...told, retryAfter },
    });
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
  }
}

function answerIn({ entry, takenAt, by, as }: News, now: number): Answer<unknown> {
  const details = { ...detailsOf(entry), age: entry.age + Math.max(0, now - takenAt), from: by };
  if (as) return unchanged(details);
  return entry.kind === "value" ? answer(entry.value, details) : missing(details);
}

function failureIn({ failure: { kind, message, ...details } }: Extract<Body, { kind: "failed" }>): Failure {
  return new Failure(kind, message, details);
}

function isIterable(came: unknown): came is AsyncIterable<unknown> {
  return typeof came === "object" && came !== null && Symbol.asyncIterator in came;
}
