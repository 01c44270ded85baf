import { useContext, useEffect } from "react";
import { isWaiting, type KnownParams, placeArguments } from "../binding/asked.js";
import type { ParamsLeftOut, Source } from "../core/index.js";
import { useCacheOr } from "./context.js";
import { refuseLeft } from "./page-reading.js";
import { attachedIn, awaitedReading, endWaiting, HolderContext, valueBeneath, waitFor } from "./suspended.js";
import { type ReadingOptions, useReadingOn } from "./use-reading.js";

/**
 * The value itself, inside of `Boundary` (or Suspense and an error boundary): suspends while loading; throws the
 * `Failure`, of kind "missing" where there is no such thing. A stand-in or carried-over value counts as one.
 * Several in one component load one after the other; with `useValues` at once. A component that goes while it waits is
 * aborted when its `Boundary` goes; beneath a Suspense of React's own, once its answer has come.
 * @throws CistaError code "no-provider"; code "invalid-params" for params that cannot make a key
 * @example const { name, water } = useValue(hut, { id });
 */
export function useValue<P, T, U = T>(source: Source<P, T>, ...rest: KnownParams<NoInfer<P>, ReadingOptions<T, U>>): U;
export function useValue(source: ParamsLeftOut): never;
export function useValue(source: any, ...given: [params?: any, options?: ReadingOptions<any, any>]): any {
  const rest = placeArguments(source, given);
  const cache = useCacheOr(rest[1]?.cache);
  const holder = useContext(HolderContext);
  const { reading: own, view } = useReadingOn(attachedIn, source, rest);
  const awaited = own.state === "loading" ? awaitedReading(cache, own.key) : undefined;
  const reading = awaited?.state === "failed" ? awaited : own;
  const { key } = reading;
  const shown = reading.state === "ready" || reading.value !== undefined;
  useEffect(() => {
    if (shown) endWaiting(cache, key);
  }, [cache, key, shown]);
  if (!shown) holder?.refuseFailed(key);
  if (isWaiting(reading)) {
    refuseLeft(cache, key);
    throw waitFor(cache, view, holder);
  }
  return valueBeneath(holder, reading);
}
