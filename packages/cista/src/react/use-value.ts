import { useEffect } from "react";
import { isWaiting, valueToShow } from "../binding/asked.js";
import type { ArgumentsOf, Cache, Reading, Source, View } from "../core/index.js";
import { clockOf } from "../core/internal.js";
import { useCache } from "./context.js";
import { type ReadingOptions, useReadingOn } from "./use-reading.js";

/** How long what came is kept watched for a component that React has not put on the page yet, in milliseconds. */
const grace = 2000;

/** A component that waits to be shown: it watches the entry already, so that its request counts as wanted. */
interface Waiting {
  readonly promise: Promise<void>;
  /** Attached for as long as it waits; the component goes on with it, so that what came is not asked for again (rule F3). */
  readonly view: View<any>;
  /** What came, or how it failed: a view that is not attached yet would only say that it is going to ask. */
  reading(): Reading<any>;
  end(): void;
}
const waitingIn = new WeakMap<Cache, Map<string, Waiting>>();

/**
 * The value itself, inside of `Boundary` (or Suspense and an error boundary): suspends while loading; throws the
 * `Failure`, of kind "missing" where there is no such thing. A stand-in or carried-over value counts as one.
 * Several in one component load one after the other; with `useValues` at once.
 * @throws CistaError code "no-provider"; code "params" for params that cannot make a key
 * @example const { name, water } = useValue(hut, { id });
 */
export function useValue<P, T, U = T>(source: Source<P, T>, ...rest: ArgumentsOf<NoInfer<P>, ReadingOptions<T, U>>): U;
export function useValue(source: Source<any, any>, ...rest: [params?: any, options?: ReadingOptions<any, any>]): any {
  const cache = useCache();
  const { reading: own, view } = useReadingOn(attachedIn, source, rest);
  const awaited = own.state === "loading" ? waitingIn.get(cache)?.get(own.key)?.reading() : undefined;
  const reading = awaited?.state === "failed" ? awaited : own;
  const { key } = reading;
  const shown = reading.state === "ready" || reading.value !== undefined;
  useEffect(() => {
    if (shown) endWaiting(cache, key);
  }, [cache, key, shown]);
  if (isWaiting(reading)) throw waiting(cache, view);
  return valueToShow(reading);
}

/** A component has come on the page, and watches for itself. */
export function endWaiting(cache: Cache, key: string): void {
  const waiting = waitingIn.get(cache)?.get(key);
  if (waiting) queueMicrotask(waiting.end); // strict mode leaves and comes back in one go: not as a newcomer
}

/** What failed for whoever waits: a view that is not attached yet would only say that it is going to ask. */
export function awaitedReading(cache: Cache, key: string): Reading<any> | undefined {
  return waitingIn.get(cache)?.get(key)?.reading();
}

export function attachedIn(cache: Cache, key: string): View<any> | undefined {
  return waitingIn.get(cache)?.get(key)?.view;
}

/** Whoever asks again after a failure waits anew. */
export function waitAnew(cache: Cache | undefined, key: string | undefined): void {
  if (cache && key !== undefined) waitingIn.get(cache)?.get(key)?.end();
}

/** What Suspense waits for: one promise for all components that wait for the same entry. */
export function waiting(cache: Cache, view: View<any>): Promise<void> {
  const all = waitingIn.get(cache) ?? new Map<string, Waiting>();
  waitingIn.set(cache, all);
  const known = all.get(view.key);
  if (known) return known.promise;
  let leave = () => {};
  const end = () => {
    leave();
    if (all.get(view.key)?.end === end) all.delete(view.key);
  };
  const promise = new Promise<void>((resolve) => {
    leave = view.subscribe(() => {
      const { state, value } = view.get();
      if ((state === "loading" || state === "empty") && value === undefined) return;
      resolve();
      clockOf(cache).setTimer(end, grace);
    });
  });
  all.set(view.key, { promise, view, reading: () => view.get(), end });
  return promise;
}
