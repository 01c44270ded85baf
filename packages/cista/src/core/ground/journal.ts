import type { Failure } from "./failure.js";

/** Why a request was made. */
export type Cause =
  | "attach"
  | "read"
  | "prefetch"
  | "visible"
  | "online"
  | "interval"
  | "expired"
  | "invalidated"
  | "dependency"
  | "asked";

export type JournalKind =
  | "attach"
  | "detach"
  | "read"
  | "request"
  | "answer"
  | "unchanged"
  | "missing"
  | "failure"
  | "retry"
  | "abort"
  | "invalidate"
  | "stale"
  | "expire"
  | "evict"
  | "put"
  | "restore"
  | "delete"
  | "sign-out"
  | "write"
  | "layer"
  | "settle"
  | "held-back"
  | "warning";

/** One thing that happened in a cache. */
export interface JournalEvent {
  /** Goes up by one with each event that anybody listens to. */
  readonly seq: number;
  /** Milliseconds since the Unix epoch. */
  readonly at: number;
  readonly kind: JournalKind;
  readonly key?: string;
  readonly source?: string;
  readonly cause?: Cause;
  readonly attempt?: number;
  /** RFC 9211, e.g. `Cista; hit; ttl=12`, `Cista; fwd=stale; fwd-status=304; stored`, `Cista; fwd=miss; collapsed`. */
  readonly cacheStatus?: string;
  readonly failure?: Failure;
  /** Milliseconds: of a request up to its answer, or of the pause before another try. */
  readonly duration?: number;
  readonly write?: string;
  readonly note?: string;
}

/** The ordered record of all that happens in one cache. */
export interface Journal {
  /**
   * Costs nothing while nobody listens. Returns its own end.
   * @param kinds the only ones to be told of: no others are put together for this listener. Default: all
   */
  subscribe(listener: (event: JournalEvent) => void, kinds?: readonly JournalKind[]): () => void;
}

export type EventDetails = Omit<JournalEvent, "seq" | "at" | "kind">;

/** Somebody listens: to all, or to some kinds only. */
interface Subscription {
  readonly listener: (event: JournalEvent) => void;
  readonly kinds: ReadonlySet<JournalKind> | undefined;
  /** The last event before it came: it is told of none of those. */
  readonly since: number;
}

/**
 * Writes events down and passes them on to whoever listens: in the order in which they happened, and only when the cache
 * is consistent, so that a listener may use it. Callers ask `hears` first, so that nothing is built for nobody.
 */
export class Recorder implements Journal {
  readonly #hearers = new Set<Subscription>();
  /** How many listen, how many of them to all, and how many to each kind. */
  #listening = 0;
  #toAll = 0;
  readonly #toKind = new Map<JournalKind, number>();
  #seq = 0;
  /** Written down, but not told yet. */
  #untold: JournalEvent[] = [];
  #telling = false;
  readonly #now: () => number;
  readonly #isChanging: () => boolean;

  /** @param isChanging whether the cache is in the middle of a change; `tell` is called when it no longer is */
  constructor(now: () => number, isChanging: () => boolean) {
    this.#now = now;
    this.#isChanging = isChanging;
  }

  /** Whether anybody is to be told of events of this kind. */
  hears(kind: JournalKind): boolean {
    if (this.#listening === 0) return false; // the usual case, asked with every component that comes and goes
    return this.#toAll > 0 || (this.#toKind.get(kind) ?? 0) > 0;
  }

  subscribe(listener: (event: JournalEvent) => void, kinds?: readonly JournalKind[]): () => void {
    const own: Subscription = { listener, kinds: kinds && new Set(kinds), since: this.#seq };
    this.#hearers.add(own);
    this.#count(own, 1);
    return () => {
      if (this.#hearers.delete(own)) this.#count(own, -1);
    };
  }

  record(kind: JournalKind, details: EventDetails): void {
    this.#untold.push({ seq: ++this.#seq, at: this.#now(), kind, ...details });
    this.tell();
  }

  /** Something has been written down and not been told. */
  get isBehind(): boolean {
    return this.#untold.length > 0;
  }

  /**
   * Tells what has been written down. What a listener causes is told after what came before.
   * @param state "consistent" in the middle of a change whose state is all there
   */
  tell(state?: "consistent"): void {
    if (this.#telling || this.#untold.length === 0 || (!state && this.#isChanging())) return;
    this.#telling = true;
    for (let next = 0; next < this.#untold.length; next++) {
      const event = this.#untold[next] as JournalEvent;
      for (const { listener, kinds, since } of this.#hearers) {
        if (event.seq > since && (kinds?.has(event.kind) ?? true)) guarded(() => listener(event));
      }
    }
    this.#untold = [];
    this.#telling = false;
  }

  close(): void {
    this.#hearers.clear();
    this.#toKind.clear();
    this.#toAll = 0;
    this.#listening = 0;
  }

  #count({ kinds }: Subscription, by: 1 | -1): void {
    this.#listening += by;
    if (!kinds) this.#toAll += by;
    else for (const kind of kinds) this.#toKind.set(kind, (this.#toKind.get(kind) ?? 0) + by);
  }
}

/** Runs a foreign callback: what it throws is reported as uncaught, and the caller goes on. */
export function guarded(callback: () => void): void {
  try {
    callback();
  } catch (thrown) {
    report(thrown);
  }
}

/** As for an error that nobody caught: `reportError` where there is one (WHATWG HTML §8.1.4.3), else the console. */
export function report(thrown: unknown): void {
  const { reportError, console } = globalThis as {
    reportError?: (thrown: unknown) => void;
    console: { error(thrown: unknown): void };
  };
  if (reportError) reportError(thrown);
  else console.error(thrown);
}

/** Why a read was not answered from what is held (RFC 9211 §2.2): nothing there, too old, or the reader wanted it so. */
export type Forward = "miss" | "stale" | "request" | "bypass";

/** RFC 9211 §2.1, §2.4: answered from what is held, with the seconds of freshness left (negative: stale since). */
export function hitStatus(freshFor: number): string {
  return `Cista; hit${Number.isFinite(freshFor) ? `; ttl=${Math.floor(freshFor / 1000)}` : ""}`;
}

/** What came of it. */
export interface ForwardEnd {
  readonly status?: number | undefined;
  readonly stored?: boolean;
  readonly collapsed?: boolean;
  readonly detail?: string;
}

/** RFC 9211 §2.2, §2.3, §2.5, §2.6. */
export function forwardStatus(forward: Forward, more: ForwardEnd = {}): string {
  const parts = [`Cista; fwd=${forward}`];
  if (more.status !== undefined) parts.push(`fwd-status=${more.status}`);
  if (more.stored) parts.push("stored");
  if (more.collapsed) parts.push("collapsed");
  if (more.detail) parts.push(`detail=${more.detail}`);
  return parts.join("; ");
}
