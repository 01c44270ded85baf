import { CoreCache } from "../core/doors/caches.js";
import type { Cache, CacheOptions } from "../core/index.js";
import { type VirtualClock, type VirtualEnvironment, virtualClock, virtualEnvironment } from "./virtual.js";

/** A cache for one test, and what moves its time and its page. */
export interface CacheForTest {
  readonly cache: Cache;
  readonly clock: VirtualClock;
  readonly environment: VirtualEnvironment;
}

/**
 * A cache for one test. Its time stands still until the test moves it by `clock.advance`. It is disposed of when the test ends.
 * @param onEnd calls back when the test ends: `onTestFinished` of Vitest, or `(end) => t.after(end)` with Node's own runner
 * @param options as for `createCache`; a `clock` or an `environment` of them is used in place of a virtual one
 * @example
 * const { cache, clock } = cacheForTest(onTestFinished, { retry: false });
 * await clock.advance("1m");
 */
export function cacheForTest(onEnd: (end: () => void) => void, options: CacheOptions = {}): CacheForTest {
  const clock = virtualClock(Date.now());
  const environment = virtualEnvironment();
  const cache = new CoreCache({ clock, environment, ...options });
  onEnd(() => cache.dispose());
  return { cache, clock, environment };
}
