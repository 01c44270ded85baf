import { type Context, createContext } from "react";
import { isWaiting, valueToShow } from "../binding/asked.js";
import { clockOf } from "../core/doors/caches.js";
import { type Cache, Failure, type Reading, type View } from "../core/index.js";

/** How long a value is kept watched for a component that React has not put on the page yet, in milliseconds. */
const grace = 2000;

/** The promise that Suspense waits for: one for all components that wait for the same entry. */
class Waiting {
  readonly promise: Promise<void>;
  /** Attached for as long as it waits; the component goes on with it, so that its value is not requested again (rule F3). */
  readonly view: View<any>;
  /** The boundaries beneath which components wait; the first is for all who wait outside of any. */
  readonly #holders = new Set<Holder | undefined>();
  readonly #cache: Cache;
  #resolve = () => {};
  #leave = () => {};
  #timer: unknown;

  constructor(cache: Cache, view: View<any>) {
    this.#cache = cache;
    this.view = view;
    this.promise = new Promise((resolve) => {
      this.#resolve = resolve;
    });
    this.#leave = view.subscribe(() => this.#changed());
  }

  hold(holder: Holder | undefined): void {
    this.#holders.add(holder);
    holder?.held.add(this);
  }

  /** A boundary has gone, with all who waited beneath it. */
  letGo(holder: Holder): void {
    this.#holders.delete(holder);
    if (this.#holders.size === 0) this.end();
  }

  end(): void {
    const all = waitingIn.get(this.#cache);
    if (all?.get(this.view.key) === this) all.delete(this.view.key);
    for (const holder of this.#holders) holder?.held.delete(this);
    if (this.#timer !== undefined) clockOf(this.#cache).clearTimer(this.#timer);
    this.#leave();
    this.#resolve();
  }

  #changed(): void {
    if (isWaiting(this.view.get())) return;
    this.#resolve();
    this.#timer ??= clockOf(this.#cache).setTimer(() => this.end(), grace);
  }
}

/** A boundary, as those who wait beneath it see it. */
export class Holder {
  readonly held: Set<Waiting> = new Set();
  /** The errors thrown to it, with their keys; and those that are shown on the page, by key. */
  readonly #thrown = new WeakMap<object, string>();
  readonly #failed = new Map<string, Failure>();
  /** The keys of failed entries that the attempt under way asks for. */
  #asked = new Set<string>();
  #endWait = (): void => {};
  /** Components that ask for a failed entry wait until it is asked for again. */
  wait: Promise<void> = this.#newWait();
  /** The entries that the attempt under way has asked for in vain. */
  failedNow: Failure | undefined;

  beginAttempt(): void {
    this.failedNow = undefined;
    this.#asked = new Set();
  }

  /**
   * It is on the page, or the error that it has thrown.
   * @returns the keys of entries that had failed, and are not asked for any more
   */
  endAttempt(caught: unknown): string[] {
    const key = this.#thrown.get(caught as object);
    if (key !== undefined) this.#failed.set(key, caught as Failure);
    if (caught) return [];
    const left = [...this.#failed.keys()].filter((each) => !this.#asked.has(each));
    for (const each of left) this.#failed.delete(each);
    return left;
  }

  /** @throws the failure, for the boundary */
  fail(key: string, failure: Failure): never {
    this.#thrown.set(failure, key);
    throw failure;
  }

  /** Whether it was thrown by a value that failed. */
  knows(thrown: unknown): thrown is Failure {
    return this.#thrown.has(thrown as object);
  }

  /** @throws the promise that React waits for, where that key has failed here and has not been asked for again */
  refuseFailed(key: string): void {
    const failure = this.#failed.get(key);
    if (!failure) return;
    this.#asked.add(key);
    this.failedNow ??= failure;
    throw this.wait;
  }

  /** @returns the keys of the entries that had failed */
  forgetFailures(): string[] {
    const keys = [...this.#failed.keys()];
    this.#failed.clear();
    this.#endWait();
    this.wait = this.#newWait();
    return keys;
  }

  #newWait(): Promise<void> {
    return new Promise((resolve) => {
      this.#endWait = resolve;
    });
  }

  letGo(): void {
    for (const waiting of [...this.held]) waiting.letGo(this);
  }
}

/** The nearest boundary. */
export const HolderContext: Context<Holder | undefined> = createContext<Holder | undefined>(undefined);

const waitingIn = new WeakMap<Cache, Map<string, Waiting>>();

function find(cache: Cache | undefined, key: string | undefined): Waiting | undefined {
  return cache && key !== undefined ? waitingIn.get(cache)?.get(key) : undefined;
}

/** Waits for a view's value; joins those who wait for it already. */
export function waitFor(cache: Cache, view: View<any>, holder: Holder | undefined): Promise<void> {
  const all = waitingIn.get(cache) ?? new Map<string, Waiting>();
  waitingIn.set(cache, all);
  const waiting = all.get(view.key) ?? new Waiting(cache, view);
  all.set(view.key, waiting);
  waiting.hold(holder);
  return waiting.promise;
}

/** A component has come on the page, and watches for itself. */
export function endWaiting(cache: Cache, key: string): void {
  const waiting = find(cache, key);
  if (waiting) queueMicrotask(() => waiting.end()); // strict mode leaves and comes back in one go: not as a newcomer
}

/** A component that asks again after a failure waits anew. */
export function waitAnew(cache: Cache | undefined, key: string | undefined): void {
  find(cache, key)?.end();
}

/**
 * The value itself, for a component that waits beneath a boundary.
 * @throws the failure, to that
 */
export function valueBeneath(holder: Holder | undefined, reading: Reading<any>): unknown {
  try {
    return valueToShow(reading);
  } catch (thrown) {
    if (holder && thrown instanceof Failure && typeof document === "object") holder.fail(reading.key, thrown);
    throw thrown;
  }
}

/** The failure for a component that waits: a view that is not attached yet would only say that it is going to ask. */
export function awaitedReading(cache: Cache, key: string): Reading<any> | undefined {
  return find(cache, key)?.view.get();
}

/** A view that is attached already for those who wait. */
export function attachedIn(cache: Cache, key: string): View<any> | undefined {
  return find(cache, key)?.view;
}
