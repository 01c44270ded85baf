import { getContext, untrack } from "svelte";
import { createSubscriber } from "svelte/reactivity";
import { Debounced } from "../binding/debounced.js";
import { clockOf } from "../core/doors/caches.js";
import type { Cache, Duration } from "../core/index.js";
import { systemClock } from "../system-clock.js";
import { cacheKey } from "./use-reading.js";

/**
 * A value once it has stayed the same for a while: for params that change with each key that is pressed. The first one is
 * there at once. Goes by the clock of the cache that was provided, where there is one.
 * @throws CistaError code "invalid-duration"
 * @example
 * const slow = useDebounced(() => text, "300ms");
 * const found = useReading(search, () => ({ text: slow.current }), { carryOver: true });
 */
export function useDebounced<V>(value: () => V, delay: Duration): { readonly current: V } {
  const cache = getContext<Cache | undefined>(cacheKey);
  let update = () => {};
  const debounced = new Debounced<V>(untrack(value), cache ? clockOf(cache) : systemClock, delay, () => update());
  const track = createSubscriber((next) => {
    update = next;
    return () => {
      update = () => {};
      debounced.stop();
    };
  });
  return {
    get current() {
      track();
      debounced.see(value());
      return debounced.value;
    },
  };
}
