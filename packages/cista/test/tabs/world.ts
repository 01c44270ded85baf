import type { KeptRecord } from "cista/browser";
import { type VirtualClock, virtualClock } from "cista/rehearsal";
import type { TabLocks } from "../../src/browser/tabs/platform.js";
import { type JoinOptions, Tab } from "./tab.js";

// Tabs of one site in virtual time: a channel that delays, locks, an origin; tabs that are frozen, stopped, killed, put aside.

/** A lock's holder and its queue. */
interface Lock {
  holder: LockRequest | undefined;
  queue: LockRequest[];
}
interface LockRequest {
  readonly tab: Tab;
  readonly grant: () => Promise<void> | undefined;
  readonly fail: (reason: unknown) => void;
  readonly done: () => void;
}

export class World {
  readonly clock: VirtualClock;
  readonly tabs: Tab[] = [];
  /** What the origin has of each hut. */
  readonly versions = new Map<number, number>();
  /** Requests under way at the origin, by hut; and all that there were. */
  readonly underWay = new Map<number, number>();
  requests: string[] = [];
  mostAtOnce = 0;
  /** How many messages were told on the tabs' channels, and the last of each channel. */
  told = 0;
  readonly lastTold = new Map<string, unknown>();
  /** Whether news was told of an entry that is each tab's own. */
  readonly toldOwn = new Set<string>();
  /** The longest that a message, a lock or an answer takes, in milliseconds. */
  delay = 0;
  latency = 100;
  failing = false;
  /** Of each tab's cache. */
  capacity = 20_000;
  /** Whether pages hear of sign-outs by the environment too, and not by the tabs' channel alone. */
  tellsSignOuts = false;
  /** How far the machine's clock is off, in milliseconds: all its tabs go by it. */
  offset = 0;
  /** Streams that are open at the origin, and the last event. */
  readonly streams = new Set<() => void>();
  mostStreams = 0;
  /** How many were opened in all. */
  openedStreams = 0;
  #event = 0;
  readonly #onEvent = new Set<() => void>();
  readonly locks = new Map<string, Lock>();
  /** What the browser's database has, and what the origin has booked: by Idempotency-Key, in order. */
  readonly records = new Map<string, KeptRecord>();
  /** How many records were read from it. */
  readRecords = 0;
  readonly booked = new Map<string, unknown>();
  /** Each try that reached the origin. */
  readonly tries: string[] = [];
  /** What the origin refuses. */
  refused: unknown;
  readonly #channels = new Map<string, Map<Tab, { hear(message: unknown): void; due: Map<Tab, number> }>>();

  constructor(seed = 1) {
    this.clock = virtualClock(Date.UTC(2026, 10, 23), seed);
  }

  get event(): number {
    return this.#event;
  }

  set event(number: number) {
    this.#event = number;
    for (const wake of [...this.#onEvent]) wake();
  }

  nextEvent(wake: () => void): () => void {
    this.#onEvent.add(wake);
    return () => this.#onEvent.delete(wake);
  }

  random(below: number): number {
    return Math.floor(this.clock.random() * below);
  }

  versionOf(id: number): number {
    return this.versions.get(id) ?? 1;
  }

  change(id: number): number {
    this.versions.set(id, this.versionOf(id) + 1);
    return this.versionOf(id);
  }

  /** A page that is not joined yet. */
  tab(partition?: string): Tab {
    const tab = new Tab(this, partition);
    this.tabs.push(tab);
    return tab;
  }

  async open(options: JoinOptions & { join?: boolean; partition?: string } = {}): Promise<Tab> {
    const tab = this.tab(options.partition);
    if (options.join !== false) await tab.join(options);
    return tab;
  }

  get alive(): Tab[] {
    return this.tabs.filter(({ isKilled }) => !isKilled);
  }

  // ── The channel ────────────────────────────────────────────────────────────

  connect(name: string, tab: Tab, hear: (message: unknown) => void) {
    const all = this.#channels.get(name) ?? new Map();
    this.#channels.set(name, all);
    const own = { hear, due: new Map<Tab, number>() };
    all.set(tab, own);
    let isClosed = false;
    return {
      post: (message: unknown) => {
        if (tab.isKilled) return;
        if (isClosed) throw new DOMException("Channel is closed", "InvalidStateError");
        this.told++;

        this.#note(name, structuredClone(message)); // which refuses what cannot be cloned, as a browser does
        for (const [other, { hear }] of all) {
          if (other === tab) continue;
          const copy = structuredClone(message);
          // From one sender in order; those of several overtake each other.
          const at = Math.max(this.clock.now() + this.random(this.delay + 1), own.due.get(other) ?? 0);
          own.due.set(other, at);
          this.clock.setTimer(
            () => other.run(() => all.get(other)?.hear === hear && hear(copy)),
            at - this.clock.now(),
          );
        }
      },
      close: () => {
        isClosed = true;
        if (all.get(tab) === own) all.delete(tab);
      },
    };
  }

  #note(name: string, message: any): void {
    this.lastTold.set(name, message);
    if (!Array.isArray(message?.news) || message.news.length > 1000) return;
    for (const news of message.news)
      if (["secret", "pair", "strange"].includes(news?.entry?.source)) this.toldOwn.add(news.entry.source);
  }

  /** A script of the site says what a tab has said, of a moment that is days ahead. */
  forge(): void {
    for (const [name, message] of this.lastTold) {
      const later = JSON.parse(JSON.stringify(message), (_, part) =>
        typeof part === "number" && part > 1e12 ? part + 3 * 86_400_000 : part,
      );
      const forger = this.connect(name, { isKilled: false } as Tab, () => {});
      forger.post(later);
      forger.close();
    }
  }

  disconnect(tab: Tab): void {
    for (const all of this.#channels.values()) all.delete(tab);
    for (const lock of this.locks.values()) {
      lock.queue = lock.queue.filter((request) => request.tab !== tab);
      if (lock.holder?.tab === tab) this.#pass(lock);
    }
  }

  // ── Locks ──────────────────────────────────────────────────────────────────

  locksFor(tab: Tab): TabLocks {
    return {
      request: (name, { signal, steal }, hold) =>
        new Promise<void>((resolve, reject) => {
          if (tab.isKilled) return;
          const lock = this.locks.get(name) ?? { holder: undefined, queue: [] };
          this.locks.set(name, lock);
          const request: LockRequest = { tab, grant: hold, fail: reject, done: resolve };
          if (signal?.aborted) return reject(signal.reason);
          signal?.addEventListener("abort", () => {
            if (!lock.queue.includes(request)) return;
            lock.queue = lock.queue.filter((other) => other !== request);
            reject(signal.reason);
          });
          if (steal) {
            const robbed = lock.holder;
            lock.holder = undefined;
            robbed?.tab.run(() => robbed.fail(new DOMException("stolen", "AbortError")));
            lock.queue.unshift(request);
          } else lock.queue.push(request);
          if (!lock.holder) this.#pass(lock);
        }),
    };
  }

  #pass(lock: Lock): void {
    const next = lock.queue.shift();
    lock.holder = next;
    if (!next) return;
    this.clock.setTimer(
      () =>
        next.tab.run(() => {
          if (lock.holder !== next) return;
          const end = () => {
            if (lock.holder === next) this.#pass(lock);
            next.done();
          };
          Promise.resolve(next.grant()).then(end, end);
        }),
      this.random(this.delay + 1),
    );
  }

  read<T>(records: T[]): T[] {
    this.readRecords += records.length;
    return structuredClone(records);
  }

  get heldLocks(): string[] {
    return [...this.locks].filter(([, { holder }]) => holder).map(([name]) => name);
  }
}
