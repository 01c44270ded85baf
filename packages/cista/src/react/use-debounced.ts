import { useContext, useEffect, useState } from "react";
import { comparable } from "../binding/debounced.js";
import { clockOf } from "../core/doors/caches.js";
import { milliseconds } from "../core/doors/tools.js";
import type { Duration } from "../core/index.js";
import { systemClock } from "../system-clock.js";
import { CacheContext } from "./context.js";

/**
 * A value once it has stayed the same for a while: for params that change with each key that is pressed. The first one is
 * there at once. Values that are spelled anew at each render are compared as params are; values that cannot be params, by identity.
 * Goes by the clock of the cache that was provided, where there is one.
 * @throws CistaError code "invalid-duration"
 * @example const reading = useReading(search, { text: useDebounced(text, "300ms") }, { carryOver: true });
 */
export function useDebounced<V>(value: V, delay: Duration): V {
  const cache = useContext(CacheContext);
  const clock = cache ? clockOf(cache) : systemClock;
  const [settled, settle] = useState(() => value);
  const key = comparable(value);
  const isSettled = Object.is(comparable(settled), key);
  // biome-ignore lint/correctness/useExhaustiveDependencies: the key stands for the value, however it is spelled
  useEffect(() => {
    if (isSettled) return;
    const timer = clock.setTimer(() => settle(() => value), milliseconds(delay, "delay"));
    return () => clock.clearTimer(timer);
  }, [clock, key, isSettled, delay]);
  return settled;
}
