import { effectScope, isRef, type MaybeRefOrGetter, onScopeDispose, type Ref, shallowRef, toValue, watch } from "vue";
import { optionsIn } from "../binding/asked.js";
import { KeyedReadings } from "../binding/keyed.js";
import type { Reading, Source } from "../core/index.js";
import { type ReadingOptions, useCache, useReading } from "./use-reading.js";

/**
 * The readings of a list of params that may grow and shrink: each is live, and stays the same while its params are in the list.
 * @throws as `useReading`
 * @example
 * const huts = useReadings(hut, () => props.ids.map((id) => ({ id })));
 * // <li v-for="reading in huts" :key="reading.key">{{ reading.value?.name }}</li>
 */
export function useReadings<P, T, U = T>(
  source: Source<P, T>,
  paramsList: MaybeRefOrGetter<readonly NoInfer<P>[]>,
  options: MaybeRefOrGetter<ReadingOptions<T, U>> = {},
): Readonly<Ref<readonly Reading<U>[]>> {
  const { cache = useCache() } = toValue(options);
  const said = isRef(options) ? () => options.value : options;
  const kept = new KeyedReadings<Reading<U>>(source, (params) => {
    const scope = effectScope(true);
    const made = scope.run(() => useReading<any, any, any>(source, params, optionsIn(said, cache)));
    return { reading: made as Reading<U>, end: () => scope.stop() };
  });
  const readings = shallowRef<readonly Reading<U>[]>([]);
  const follow = (list: readonly unknown[]) => {
    readings.value = kept.of(list);
  };
  watch(() => [...toValue(paramsList)], follow, { immediate: true });
  onScopeDispose(() => kept.end());
  return readings;
}
