import { useContext, useLayoutEffect, useMemo, useReducer } from "preact/hooks";
import { Debounced } from "../binding/debounced.js";
import { clockOf } from "../core/doors/caches.js";
import type { Duration } from "../core/index.js";
import { systemClock } from "../system-clock.js";
import { CacheContext } from "./use-reading.js";

/**
 * A value once it has stayed the same for a while: for params that change with each key that is pressed. The first one is
 * there at once. Goes by the clock of the cache that was provided, where there is one.
 * @throws CistaError code "invalid-duration"
 * @example const reading = useReading(search, { text: useDebounced(text, "300ms") }, { carryOver: true });
 */
export function useDebounced<V>(value: V, delay: Duration): V {
  const cache = useContext(CacheContext);
  const [, render] = useReducer<number, void>((count) => count + 1, 0);
  const clock = cache ? clockOf(cache) : systemClock;
  // biome-ignore lint/correctness/useExhaustiveDependencies: the first value is the one that it begins with
  const debounced = useMemo(() => new Debounced<V>(value, clock, delay, () => render()), [clock, delay]);
  useLayoutEffect(() => debounced.see(value));
  useLayoutEffect(() => () => debounced.stop(), [debounced]);
  return debounced.value;
}
