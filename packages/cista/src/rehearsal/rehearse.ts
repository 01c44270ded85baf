import { milliseconds } from "../core/doors/tools.js";
import {
  type Cache,
  CistaError,
  type Duration,
  type EntryInfo,
  Failure,
  type Interceptor,
  intercept,
  type LoadCall,
  missing,
  type Source,
  where,
} from "../core/index.js";

/** What one source is made to do. Several at once are possible: slow and failing. */
export interface Mishap {
  /** Each answer takes at least so long. */
  slow?: Duration;
  /** The share of answers that are a failure (kind "http", status 500), 0 to 1; true is 1. */
  failing?: boolean | number;
  /** There is no such thing. */
  missing?: boolean;
  /** There is no network for it: its requests wait. */
  offline?: boolean;
  /** Every other answer waits until the one after it has come, or two seconds have passed. */
  outOfOrder?: boolean;
}

/** Trying a page against sources that misbehave, without a change in their code. */
export interface Rehearsal {
  /** From now on; `undefined` is as it really is. What is watched of the source is asked for anew. */
  set(source: Source<any, any> | string, mishap: Mishap | undefined): void;
  /** What the source is made to do. */
  of(source: string): Mishap | undefined;
  /** All as it really is, now and for good. */
  end(): void;
}

export interface RehearsalOptions {
  /** Default: the platform's own. */
  setTimer?(callback: () => void, delay: number): void;
  random?(): number;
}

const longestHeld = 2000;

/**
 * Stands around the loads of a cache. What it does the cache cannot tell from the real thing: slow really takes that
 * long, a failure goes through retries and `staleIfError`, and offline waits as `offline`.
 * @example
 * const rehearsal = rehearse(cache);
 * rehearsal.set(hut, { slow: "2s", failing: 0.3 });
 */
export function rehearse(cache: Cache, options: RehearsalOptions = {}): Rehearsal {
  return new Staged(cache, options);
}

class Staged implements Rehearsal {
  readonly #cache: Cache;
  readonly #setTimer: (callback: () => void, delay: number) => void;
  readonly #random: () => number;
  readonly #mishaps = new Map<string, Mishap>();
  /** Lets the answer go that waits until the next one has come, by source. */
  readonly #held = new Map<string, () => void>();
  readonly #interceptor: Interceptor = {
    load: (call, proceed) => {
      const mishap = this.#mishaps.get(call.source);
      return mishap ? this.#misbehave(mishap, call, proceed) : proceed();
    },
    isOffline: (source) => this.#mishaps.get(source)?.offline === true,
  };
  #remove: () => void;

  constructor(cache: Cache, { setTimer, random }: RehearsalOptions) {
    this.#cache = cache;
    this.#setTimer = setTimer ?? ((callback, delay) => void setTimeout(callback, delay));
    this.#random = random ?? Math.random;
    this.#remove = intercept(cache, this.#interceptor);
  }

  set(source: Source<any, any> | string, mishap: Mishap | undefined): void {
    const name = typeof source === "string" ? source : source.name;
    this.#change(
      (other) => other === name,
      () => {
        if (mishap) this.#mishaps.set(name, mishap);
        else this.#mishaps.delete(name);
        this.#remove();
        this.#remove = intercept(this.#cache, this.#interceptor); // what waited for a network looks anew whether there is one
      },
    );
  }

  of(source: string): Mishap | undefined {
    return this.#mishaps.get(source);
  }

  end(): void {
    this.#change(
      () => true,
      () => {
        this.#mishaps.clear();
        this.#remove();
      },
    );
  }

  async #misbehave(mishap: Mishap, { source, context }: LoadCall, proceed: () => unknown): Promise<unknown> {
    const { signal } = context;
    const waits: Promise<unknown>[] = [];
    if (mishap.slow !== undefined) waits.push(this.#pause(milliseconds(mishap.slow, "slow"), signal));
    if (this.#random() < Number(mishap.failing ?? 0)) {
      await Promise.all(waits);
      throw new Failure("http", `Rehearsed: "${source}" fails.`, { status: 500 });
    }
    // What is only played is stored nowhere. Awaited together: a load that is aborted rejects, and so does its pause.
    const load = async () => (mishap.missing ? missing({ noStore: true }) : proceed());
    const [came] = await Promise.all([load(), ...waits]);
    if (mishap.outOfOrder) await this.#untilPassed(source, signal);
    return came;
  }

  #pause(length: number, signal: AbortSignal): Promise<void> {
    return new Promise((resolve, reject) => {
      this.#setTimer(resolve, length);
      signal.addEventListener("abort", () => reject(signal.reason), { once: true });
    });
  }

  async #untilPassed(source: string, signal: AbortSignal): Promise<void> {
    const before = this.#held.get(source);
    this.#held.delete(source);
    if (before) {
      this.#setTimer(before, 0); // once this one has gone
      return;
    }
    await Promise.race([new Promise<void>((go) => this.#held.set(source, go)), this.#pause(longestHeld, signal)]);
  }

  /** Makes a change, and asks anew for what is watched. A cache that was disposed of meanwhile has nothing to ask for. */
  #change(isMeant: (source: string) => boolean, make: () => void): void {
    const watched = ({ source, watchers }: EntryInfo) => watchers > 0 && isMeant(source);
    try {
      // A try that is under way began as it was before: another request follows it.
      this.#cache.invalidate(where((entry) => watched(entry) && entry.reading.request === "running"));
      make();
      this.#cache.revalidate(where(watched)).catch(() => {});
    } catch (thrown) {
      if (!(thrown instanceof CistaError && thrown.code === "cache-disposed")) throw thrown;
    }
  }
}
