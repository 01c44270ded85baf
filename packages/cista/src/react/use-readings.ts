/** Several readings, or values, in one component of React. Rule H6. */
import { useContext, useEffect, useReducer, useRef } from "react";
import { isWaiting } from "../binding/asked.js";
import {
  type CheckedSpecs,
  ReadingList,
  type ReadingSpec,
  type ReadingsOf,
  specsOf,
  type ValuesOf,
} from "../binding/reading-list.js";
import type { Reading, Source } from "../core/index.js";
import { useCacheOr } from "./context.js";
import { readingOnServer, refuseLeft } from "./page-reading.js";
import { attachedIn, awaitedReading, endWaiting, HolderContext, valueBeneath, waitFor } from "./suspended.js";
import { type ReadingOptions, useEarlyEffect } from "./use-reading.js";

/**
 * Several readings in one component: of one source with a list of params that may grow and shrink, or of several sources.
 * Each is asked for at once, and like any reading; the component renders again only for members that it has looked at.
 * @throws as `useReading`
 * @example
 * const readings = useReadings(hut, ids.map((id) => ({ id })));
 * const [one, weather] = useReadings([[hut, { id }], [forecast]]);
 */
export function useReadings<P, T, U = T>(
  source: Source<P, T>,
  paramsList: readonly NoInfer<P>[],
  options?: Omit<ReadingOptions<T, U>, "carryOver">,
): readonly Reading<U>[];
export function useReadings<const Q extends readonly ReadingSpec[]>(specs: Q & CheckedSpecs<Q>): ReadingsOf<Q>;
export function useReadings(first: any, paramsList?: readonly any[], options: ReadingOptions<any, any> = usual): any {
  return useReadingList(specsOf(first, paramsList), options).readings;
}

/**
 * Several values, asked for at once, inside of `Boundary` (or Suspense and an error boundary): see `useValue`.
 * @throws as `useValue`
 * @example const [{ name }, weather] = useValues([[hut, { id }], [forecast]]);
 */
export function useValues<P, T, U = T>(
  source: Source<P, T>,
  paramsList: readonly NoInfer<P>[],
  options?: Omit<ReadingOptions<T, U>, "carryOver">,
): readonly U[];
export function useValues<const Q extends readonly ReadingSpec[]>(specs: Q & CheckedSpecs<Q>): ValuesOf<Q>;
export function useValues(first: any, paramsList?: readonly any[], options: ReadingOptions<any, any> = usual): any {
  const cache = useCacheOr(options.cache);
  const holder = useContext(HolderContext);
  const { readings, list } = useReadingList(specsOf(first, paramsList), options);
  const shown = readings.every((reading) => !isWaiting(reading));
  useEffect(() => {
    if (shown) for (const { view } of list) endWaiting(cache, view.key);
  }, [cache, list, shown]);
  const came = readings.map((own) => {
    const awaited = isWaiting(own) ? awaitedReading(cache, own.key) : undefined;
    return awaited?.state === "failed" ? awaited : own;
  });
  for (const { state, value, key } of came) if (state !== "ready" && value === undefined) holder?.refuseFailed(key);
  const values = came.map((reading) => (isWaiting(reading) ? undefined : valueBeneath(holder, reading))); // what has failed is told before the others have come
  for (const { view } of list) refuseLeft(cache, view.key);
  const waiting = list.filter((_, index) => isWaiting(came[index]));
  const awaited = waiting.map(({ view }) => waitFor(cache, view, holder));
  if (awaited.length > 0) throw Promise.race(awaited); // by the first: it may have failed
  return values;
}

const usual: ReadingOptions<any, any> = {};
const seam = { attached: attachedIn, onServer: readingOnServer };

function useReadingList(specs: readonly ReadingSpec[], options: ReadingOptions<any, any>) {
  const cache = useCacheOr(options.cache);
  const [, render] = useReducer((count: number) => count + 1, 0);
  const ref = useRef<ReadingList>(undefined);
  ref.current ??= new ReadingList(render, seam);
  const memory = ref.current;
  const list = memory.ask(cache, specs, options);
  useEarlyEffect(() => memory.attach(list)); // strict mode leaves and comes back
  useEarlyEffect(() => () => memory.leave(), []);
  return { readings: memory.look(options), list };
}
