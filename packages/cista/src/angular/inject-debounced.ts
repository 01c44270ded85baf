import { computed, DestroyRef, effect, inject, type Signal, signal, untracked } from "@angular/core";
import { Debounced } from "../binding/debounced.js";
import { clockOf } from "../core/doors/caches.js";
import { milliseconds } from "../core/doors/tools.js";
import type { Duration } from "../core/index.js";
import { systemClock } from "../system-clock.js";
import { CACHE } from "./inject-reading.js";

/**
 * A value once it has stayed the same for a while: for params that change with each key that is pressed. The first one is
 * there at once. Goes by the clock of the cache that was provided, where there is one.
 * @throws CistaError code "invalid-duration"
 * @example
 * readonly slow = injectDebounced(() => this.text(), "300ms");
 * readonly found = injectReading(search, () => ({ text: this.slow() }), { carryOver: true });
 */
export function injectDebounced<V>(value: () => V, delay: Duration): Signal<V> {
  const cache = inject(CACHE, { optional: true });
  const clock = cache ? clockOf(cache) : systemClock;
  const settled = signal<{ readonly value: V } | undefined>(undefined);
  let debounced: Debounced<V> | undefined;
  effect(() => {
    const now = value();
    untracked(() => {
      const ours = debounced ?? new Debounced<V>(now, clock, delay, () => settled.set({ value: ours.value }));
      debounced = ours;
      if (!settled()) settled.set({ value: now });
      ours.see(now);
    });
  });
  inject(DestroyRef).onDestroy(() => debounced?.stop());
  milliseconds(delay, "delay"); // refused at once
  return computed(() => (settled() ?? { value: value() }).value);
}
