import { type Accessor, createComputed, createSignal, onCleanup, untrack, useContext } from "solid-js";
import { Debounced } from "../binding/debounced.js";
import { clockOf } from "../core/doors/caches.js";
import type { Duration } from "../core/index.js";
import { systemClock } from "../system-clock.js";
import { CacheContext } from "./create-reading.js";

/**
 * A value once it has stayed the same for a while: for params that change with each key that is pressed. The first one is
 * there at once. Goes by the clock of the cache that was provided, where there is one.
 * @throws CistaError code "invalid-duration"
 * @example
 * const slow = createDebounced(text, "300ms");
 * const found = createReading(search, () => ({ text: slow() }), { carryOver: true });
 */
export function createDebounced<V>(value: Accessor<V>, delay: Duration): Accessor<V> {
  const cache = useContext(CacheContext);
  const [settled, setSettled] = createSignal<V>(untrack(value));
  const debounced = new Debounced<V>(untrack(settled), cache ? clockOf(cache) : systemClock, delay, () => {
    setSettled(() => debounced.value);
  });
  createComputed(() => debounced.see(value()));
  onCleanup(() => debounced.stop());
  return settled;
}
