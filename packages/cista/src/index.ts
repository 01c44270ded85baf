/**
 * The core: sources, caches, readings, writes. No page, no framework, no HTTP.
 * @module cista
 */

import { pageEnvironment } from "./browser/environment.js";
import { CoreCache, steadyEnvironment } from "./core/doors/caches.js";
import type { Cache, CacheOptions } from "./core/index.js";
import { systemClock } from "./system-clock.js";

export * from "./core/index.js";

/**
 * A cache: one per application in a browser, one per request on a server.
 * Without options it goes by the platform's clock and, in a page, by the page's visibility and network.
 * @example export const cache = createCache({ maxAge: "1m" });
 * @throws CistaError code "invalid-duration" or "invalid-capacity" for options that cannot be
 */
export function createCache(options: CacheOptions = {}): Cache {
  const inPage = typeof document === "object" && typeof window === "object";
  return new CoreCache({
    ...options,
    clock: options.clock ?? systemClock,
    environment: options.environment ?? (inPage ? pageEnvironment() : steadyEnvironment),
  });
}
