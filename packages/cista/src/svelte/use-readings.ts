import { untrack } from "svelte";
import { type MaybeFollowed, optionsIn, valueNow } from "../binding/asked.js";
import { KeyedReadings } from "../binding/keyed.js";
import type { Reading, Source } from "../core/index.js";
import { type ReadingOptions, useCache, useReading } from "./use-reading.js";

/**
 * The readings of a list of params that may grow and shrink: each is live, and stays the same while its params are in the list.
 * @throws as `useReading`
 * @example
 * const huts = useReadings(hut, () => ids.map((id) => ({ id })));
 * // {#each huts.current as reading (reading.key)}<li>{reading.value?.name}</li>{/each}
 */
export function useReadings<P, T, U = T>(
  source: Source<P, T>,
  paramsList: readonly NoInfer<P>[] | (() => readonly NoInfer<P>[]),
  options: MaybeFollowed<ReadingOptions<T, U>> = {},
): { readonly current: readonly Reading<U>[] } {
  const { cache = useCache() } = untrack(() => valueNow(options));
  const kept = new KeyedReadings<Reading<U>>(source, (params) => ({
    reading: useReading<any, any, any>(source, () => params, optionsIn(options, cache)),
  }));
  return {
    get current() {
      return kept.of(valueNow(paramsList));
    },
  };
}
