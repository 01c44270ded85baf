import { inject, type MaybeRefOrGetter, onScopeDispose, type Ref, shallowRef, toValue, watch } from "vue";
import { Debounced } from "../binding/debounced.js";
import { clockOf } from "../core/doors/caches.js";
import type { Duration } from "../core/index.js";
import { systemClock } from "../system-clock.js";
import { cacheKey } from "./use-reading.js";

/**
 * A value once it has stayed the same for a while: for params that change with each key that is pressed. The first one is
 * there at once. Goes by the clock of the cache that was provided, where there is one.
 * @throws CistaError code "invalid-duration"
 * @example
 * const text = useDebounced(() => props.text, "300ms");
 * const found = useReading(search, () => ({ text: text.value }), { carryOver: true });
 */
export function useDebounced<V>(value: MaybeRefOrGetter<V>, delay: Duration): Readonly<Ref<V>> {
  const cache = inject(cacheKey, undefined);
  const settled = shallowRef<V>(toValue(value)) as Ref<V>;
  const debounced = new Debounced<V>(settled.value, cache ? clockOf(cache) : systemClock, delay, () => {
    settled.value = debounced.value;
  });
  watch(
    () => toValue(value),
    (now) => debounced.see(now),
  );
  onScopeDispose(() => debounced.stop());
  return settled;
}
