import { useEffect, useState } from "react";
import type { Duration } from "../core/index.js";
import { clockOf, keyText, milliseconds } from "../core/internal.js";
import { useCache } from "./context.js";

/**
 * A value once it has stayed the same for a while: for params that change with each key that is pressed. The first one is
 * there at once.
 * @throws CistaError code "no-provider"; code "params" for what cannot be params; code "duration"
 * @example const reading = useReading(search, { text: useDebounced(text, "300ms") }, { carryOver: true });
 */
export function useDebounced<V>(value: V, delay: Duration): V {
  const clock = clockOf(useCache());
  const [settled, settle] = useState(value);
  const key = keyText("", value);
  const isSettled = keyText("", settled) === key;
  // biome-ignore lint/correctness/useExhaustiveDependencies: the key stands for the value, however it is spelled
  useEffect(() => {
    if (isSettled) return;
    const timer = clock.setTimer(() => settle(() => value), milliseconds(delay, "delay"));
    return () => clock.clearTimer(timer);
  }, [clock, key, isSettled, delay]);
  return settled;
}
