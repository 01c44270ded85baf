import { type Cache, createCache } from "cista";

/** One in the browser. On the server there is one for each request: `locals.cache`. */
export const browserCache: Cache | undefined = import.meta.env.SSR ? undefined : createCache();

/** A layout's data that is the request's cache on the server, and the browser's own in the browser. */
export class HeldCache {
  readonly cache: Cache;
  constructor(cache: Cache) {
    this.cache = cache;
  }
}
