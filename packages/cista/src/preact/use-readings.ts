import { useLayoutEffect, useReducer, useRef } from "preact/hooks";
import { type CheckedSpecs, ReadingList, type ReadingSpec, type ReadingsOf, specsOf } from "../binding/reading-list.js";
import type { Reading, Source } from "../core/index.js";
import { type ReadingOptions, useCacheOr } from "./use-reading.js";

/**
 * Several readings in one component: of one source with a list of params that may grow and shrink, or of several sources.
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
export function useReadings(first: any, paramsList?: readonly any[], options: ReadingOptions<any, any> = {}): any {
  const cache = useCacheOr(options.cache);
  const [, render] = useReducer<number, void>((count) => count + 1, 0);
  const ref = useRef<ReadingList>(null);
  ref.current ??= new ReadingList(() => render());
  const memory = ref.current;
  const list = memory.ask(cache, specsOf(first, paramsList), options);
  useLayoutEffect(() => memory.attach(list));
  useLayoutEffect(() => () => memory.leave(), [memory]);
  return memory.look(options);
}
