import { Debounced } from "../binding/debounced.js";
import { clockOf } from "../core/doors/caches.js";
import type { Cache, Duration } from "../core/index.js";

/** Values that are told with each key that is pressed. */
export interface DebouncedInput<V> {
  /** Tells the value of this moment. Each other one begins the pause anew. */
  see(value: V): void;
  /** No more comes. */
  stop(): void;
}

/**
 * Calls `settled` with a value once it has stayed the same for a while.
 * @param first the present value: it is not told
 * @throws CistaError code "invalid-duration"
 * @example
 * const typed = debounceInput(cache, "", "300ms", (text) => shown.set({ text }));
 * input.oninput = () => typed.see(input.value);
 */
export function debounceInput<V>(
  cache: Cache,
  first: V,
  delay: Duration,
  settled: (value: V) => void,
): DebouncedInput<V> {
  const debounced = new Debounced<V>(first, clockOf(cache), delay, () => settled(debounced.value));
  return { see: (value) => debounced.see(value), stop: () => debounced.stop() };
}
