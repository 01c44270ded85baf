/**
 * The cache's rules once more, written to be plainly right and not to be quick: one record per key, no timers, every
 * second of time looked at. Rule numbers are those of docs/rules.md. All lengths of time are seconds.
 */

import { type Asked, type Load, Record, type Rules, type Waiter, words } from "./record.js";

export class Model {
  now = 0;
  visible = true;
  online = true;
  missed = false;
  version = 0;
  orders = 0;
  readonly records: Record[];
  /** What no-store reads ask for is nobody else's business. */
  readonly apart: Record[] = [];
  readonly loads: Load[] = [];
  /** How each read ended; undefined while it waits. */
  readonly reads: (string | undefined)[] = [];

  constructor(
    readonly rules: Rules,
    keys: number,
  ) {
    this.records = Array.from({ length: keys }, (_, key) => new Record(key));
  }

  // ── F: freshness ───────────────────────────────────────────────────────────

  age(r: Record): number {
    return r.ageThen + this.now - r.storedAt; // F1
  }

  ageing(r: Record): "fresh" | "stale" | "expired" {
    const { maxAge, whileRevalidate, mustRevalidate } = this.rules;
    if (this.age(r) < maxAge) return "fresh";
    return this.age(r) < maxAge + (mustRevalidate ? 0 : whileRevalidate) ? "stale" : "expired";
  }

  good(r: Record): "fresh" | "stale" | "expired" | "invalidated" | "none" {
    if (r.held === "none") return "none";
    return r.version < r.invalidatedAt ? "invalidated" : this.ageing(r);
  }

  covers(r: Record): boolean {
    const { maxAge, ifError, mustRevalidate } = this.rules;
    return mustRevalidate ? this.good(r) === "fresh" : this.age(r) < maxAge + ifError;
  }

  /** The table of what a reading shows. */
  shows(r: Record): boolean {
    const good = this.good(r);
    if (good === "none") return false;
    if (good === "fresh") return true;
    if (r.asked) return !this.rules.mustRevalidate && (good === "stale" || r.shown);
    if (r.failed) return this.covers(r) && (good !== "invalidated" || r.shown);
    if (good === "invalidated") return !this.rules.mustRevalidate && r.shown;
    return good === "stale" || r.cameStale;
  }

  reading(key: number): string {
    const r = this.records[key] as Record;
    return this.inWords(r, this.shows(r));
  }

  /** What `peek` tells: what is held, whatever the allowances. */
  held(key: number): string {
    const r = this.records[key] as Record;
    return this.inWords(r, r.held !== "none");
  }

  inWords(r: Record, shows: boolean): string {
    const without = r.asked ? "loading" : r.failed ? "failed" : "empty";
    const state = shows ? (r.held === "value" ? "ready" : "missing") : without;
    return words(state, r.value, shows && this.good(r) !== "fresh", r.asked?.phase, r.failed);
  }

  // ── R: requests ────────────────────────────────────────────────────────────

  start(r: Record, cause: string, mode = cause === "manual" || cause === "invalidated" ? "no-cache" : "default"): void {
    const order = this.orders++;
    r.asked = {
      phase: "running",
      cause,
      mode,
      began: 0,
      attempt: 0,
      order,
      paused: 0,
      load: undefined,
      until: 0,
      runsOn: false,
    };
    this.try(r);
  }

  try(r: Record): void {
    const asked = r.asked as Asked;
    if (!this.online) {
      asked.phase = "offline"; // R6
      return;
    }
    asked.phase = "running";
    asked.attempt++;
    asked.began = ++this.version;
    const line = this.records.includes(r) ? r.key : this.records.length + r.key;
    const nth = this.loads.filter((load) => load.line === line).length;
    const what = `${asked.cause} ${asked.mode} ${asked.attempt}`;
    asked.load = { of: r, what, line, nth, aborted: false, open: true };
    this.loads.push(asked.load);
  }

  /** All that wait for a pause to end, or for the network, in an order. */
  tryWaiting(order: "order" | "paused", due: (asked: Asked) => boolean): void {
    const waiting = [...this.records, ...this.apart].filter(
      (r) => r.asked && r.asked.phase !== "running" && due(r.asked),
    );
    waiting.sort((one, other) => Number(one.asked?.[order]) - Number(other.asked?.[order]));
    for (const r of waiting) this.try(r);
  }

  /** Joins what is under way, or begins it (R1); an outdated one is not enough (R2). */
  ask(r: Record, cause: string, mode: string | undefined, waiter: Waiter): void {
    if (r.asked && mode === "reload" && r.asked.mode !== "reload") this.abort(r);
    if (!r.asked) this.start(r, cause, mode);
    else if (cause === "manual" && r.asked.phase !== "running") this.try(r); // R5
    const outdated = r.asked?.phase === "running" && r.asked.began < r.invalidatedAt;
    (outdated ? r.waitingForNext : r.waiting).push(waiter);
  }

  abort(r: Record): void {
    const load = r.asked?.load;
    if (load?.open) Object.assign(load, { aborted: true, open: false });
    r.asked = undefined;
  }

  /** A load ends. */
  end(load: Load, how: "value" | "missing" | "unchanged" | "failure", value: unknown): void {
    load.open = false;
    const r = load.of;
    const asked = r.asked as Asked;
    const odd = how === "unchanged" && r.held !== "value"; // R8, not tried again
    if (how === "failure" && asked.attempt <= this.rules.tries) {
      r.failed = true;
      asked.phase = "waiting";
      asked.until = this.now + this.rules.pause;
      asked.paused = this.orders++;
      return;
    }
    r.asked = undefined;
    const failure = odd ? "no-value" : how === "failure" ? "http" : undefined;
    if (failure) r.failed = true;
    else if (how === "unchanged") this.take(r, r.held, r.value, asked.began);
    else this.take(r, how as "value" | "missing", value, asked.began);
    this.answerWaiting(r, asked, failure);
  }

  take(r: Record, held: Record["held"], value: unknown, version: number): void {
    Object.assign(r, {
      held,
      value: held === "value" ? value : undefined,
      storedAt: this.now,
      ageThen: 0,
      version,
      failed: false,
      owed: false,
    });
    r.cameStale = version >= r.invalidatedAt && this.rules.maxAge === 0; // F3
    r.told = this.rules.maxAge === 0 ? "expired" : "fresh";
    r.shown = r.watchers > 0;
  }

  answerWaiting(r: Record, asked: Asked, failure: string | undefined): void {
    const outdated = asked.began < r.invalidatedAt;
    this.tell(r, r.waiting, failure);
    r.waiting = r.waitingForNext;
    r.waitingForNext = [];
    if (!outdated) {
      this.tell(r, r.waiting, failure);
      r.waiting = [];
    } else if (r.waiting.length > 0 || r.askers > 0) {
      this.start(r, "invalidated"); // R2
    }
  }

  /** R3: it runs on though nobody watches. */
  pinned(r: Record): boolean {
    return Boolean(r.asked?.runsOn) || [...r.waiting, ...r.waitingForNext].some(({ patient }) => patient);
  }

  tell(r: Record, waiters: readonly Waiter[], failure: string | undefined): void {
    const value = r.held === "value" ? String(r.value) : "missing";
    const covered = r.held === "value" && r.version >= r.invalidatedAt && this.covers(r); // RFC 5861 §4, F5
    for (const { id, strict } of waiters)
      if (id >= 0) this.reads[id] = failure && !(covered && !strict) ? failure : value;
  }

  // ── What people and the page do ────────────────────────────────────────────

  attach(key: number, asks: boolean): void {
    const r = this.records[key] as Record;
    if (r.watchers === 0) r.told = r.held === "none" || r.cameStale ? "expired" : this.ageing(r);
    r.watchers++;
    if (!asks) return;
    r.askers++;
    if (!r.asked && this.wants(r)) this.start(r, "attach");
  }

  /** F2. */
  wants(r: Record): boolean {
    const good = this.good(r);
    return good === "stale" ? this.rules.triggers.includes("attach") : good !== "fresh";
  }

  detach(key: number, asked: boolean): void {
    const r = this.records[key] as Record;
    r.watchers--;
    if (asked) r.askers--;
  }

  read(key: number, mode: string, mayLeave = false): void {
    const id = this.reads.push(undefined) - 1;
    const patient = !mayLeave;
    const r = this.records[key] as Record;
    const good = this.good(r);
    const heldValue = r.held === "value" ? String(r.value) : "missing";
    const hit =
      (mode === "default" && (good === "fresh" || good === "stale")) ||
      (mode.endsWith("cache") && mode === "force-cache" && good !== "none");
    if (mode === "no-store") {
      const alone = new Record(key);
      this.apart.push(alone);
      this.ask(alone, "read", mode, { id, strict: true, patient, mayLeave });
    } else if (mode === "only-if-cached") {
      this.reads[id] = good === "none" ? "not-cached" : heldValue;
      if (good !== "none") this.used(r);
    } else if (hit) {
      this.reads[id] = heldValue;
      this.used(r);
      if (mode === "default" && good === "stale" && !r.asked) {
        this.start(r, "read");
        (r.asked as unknown as Asked).runsOn = true;
      }
    } else {
      this.ask(r, "read", mode === "force-cache" ? "default" : mode, {
        id,
        strict: mode === "no-cache" || mode === "reload",
        patient,
        mayLeave,
      });
    }
  }

  /** Whoever reads is told to leave. */
  leave(id: number): void {
    if (this.reads[id] !== undefined) return;
    for (const r of [...this.records, ...this.apart]) {
      for (const waiting of [r.waiting, r.waitingForNext]) {
        const at = waiting.findIndex((waiter) => waiter.id === id && waiter.mayLeave);
        if (at < 0) continue;
        waiting.splice(at, 1);
        this.reads[id] = "left";
      }
    }
  }

  used(r: Record): void {
    if (r.idleSince === undefined) return;
    r.idleSince = this.now;
  }

  letGo(r: Record): void {
    Object.assign(r, new Record(r.key), { idleSince: undefined });
  }

  prefetch(key: number): void {
    const r = this.records[key] as Record;
    const good = this.good(r);
    if (good === "fresh" || good === "stale") return;
    if (!r.asked) this.start(r, "prefetch");
    if (r.asked) r.asked.runsOn = true;
  }

  revalidate(key: number): void {
    const r = this.records[key] as Record;
    if (this.rules.immutable && this.good(r) === "fresh") return; // RFC 8246
    this.ask(r, "manual", undefined, { id: -1, strict: true, patient: r.watchers === 0, mayLeave: false });
  }

  put(key: number, value: unknown): void {
    const r = this.records[key] as Record;
    this.abort(r);
    this.take(r, "value", value, ++this.version);
    this.tell(r, [...r.waiting, ...r.waitingForNext], undefined); // R2
    r.waiting = [];
    r.waitingForNext = [];
    this.used(r);
  }

  /** Another value, as old and as trusted as it was; a try that does not know of it is begun anew. */
  patch(key: number, value: unknown): void {
    const r = this.records[key] as Record;
    if (r.held !== "value") return;
    const trusted = r.version >= r.invalidatedAt;
    Object.assign(r, { value, ageThen: this.age(r), storedAt: this.now, version: ++this.version });
    if (!trusted) r.invalidatedAt = ++this.version;
    if (r.asked?.phase === "running") {
      const { cause, mode, runsOn } = r.asked;
      this.abort(r);
      this.start(r, cause, mode);
      Object.assign(r.asked, { runsOn });
    }
    this.used(r);
    if (trusted) return;
    if (r.asked && r.asked.phase !== "running") this.try(r);
    else if (!r.asked && r.askers > 0) this.start(r, "invalidated");
  }

  invalidate(key: number): void {
    const r = this.records[key] as Record;
    if (r.held === "none" && !r.asked) {
      if (r.failed && r.askers > 0) this.start(r, "invalidated");
      return;
    }
    r.invalidatedAt = ++this.version;
    if (r.asked && r.asked.phase !== "running") this.try(r);
    else if (!r.asked && r.askers > 0) this.start(r, "invalidated");
  }

  delete(key: number): void {
    const r = this.records[key] as Record;
    this.abort(r);
    Object.assign(r, {
      held: "none",
      value: undefined,
      version: 0,
      invalidatedAt: 0,
      failed: false,
      shown: false,
      cameStale: false,
      owed: false,
    });
    const waited = r.waiting.length + r.waitingForNext.length > 0;
    if (r.askers > 0 || waited) this.start(r, "attach");
  }

  page(visible: boolean, online: boolean): void {
    const back = online && !this.online;
    const wakes = [...(back ? ["online"] : []), ...(visible && !this.visible ? ["visible"] : [])];
    this.missed = online && (this.missed || (back && !visible));
    if (visible && this.missed) wakes.push("online"); // what came back while nobody looked
    if (visible) this.missed = false;
    Object.assign(this, { visible, online });
    for (const cause of wakes) {
      this.tryWaiting("order", () => true); // R5, R6
      if (!visible) continue;
      for (const r of this.records) {
        if (r.asked || r.askers === 0) continue;
        if (this.rules.triggers.includes(cause) && this.good(r) !== "fresh") this.start(r, cause);
        else if (cause === "visible" && r.owed) this.start(r, "expired"); // F3
        if (cause === "visible") r.owed = false;
      }
    }
  }

  second(): void {
    this.now++;
    this.tryWaiting("paused", ({ phase, until }) => phase === "waiting" && until <= this.now);
    for (const r of this.records) {
      if (r.watchers > 0 && r.held !== "none") this.grow(r);
    }
    this.settle();
  }

  grow(r: Record): void {
    const ageing = this.ageing(r);
    if (ageing === "expired" && r.told !== "expired" && r.askers > 0 && !r.asked) {
      if (this.visible) this.start(r, "expired");
      else r.owed = true;
    }
    if (r.told === "expired" && this.rules.maxAge === 0) return; // F3: what came stale is not asked for again by itself
    r.told = ageing;
  }

  /** One macrotask later: what was left is left (R3, S2), what is idle is kept for a while (F8). */
  settle(): void {
    for (const r of this.apart) if (r.asked && r.waiting.length === 0) this.abort(r);
    for (const r of this.records) {
      const alone = r.watchers === 0;
      const waited = [...r.waiting, ...r.waitingForNext].some(({ mayLeave }) => mayLeave);
      if (alone && r.asked && !waited && !this.pinned(r)) {
        this.abort(r);
        this.tell(r, [...r.waiting, ...r.waitingForNext], "aborted");
        r.waiting = [];
        r.waitingForNext = [];
      }
      if (alone) r.shown = r.cameStale = false;
      if (alone && !r.asked && this.rules.noStore)
        Object.assign(r, {
          held: "none",
          value: undefined,
          version: 0,
          invalidatedAt: 0,
          failed: r.held === "none" && r.failed,
        });
      const shows = this.shows(r);
      if (!alone) r.shown = shows;
      if (!alone || r.asked) r.idleSince = undefined;
      else r.idleSince ??= this.now;
      if (r.idleSince !== undefined && this.now >= r.idleSince + this.rules.retain) this.letGo(r);
    }
  }
}
