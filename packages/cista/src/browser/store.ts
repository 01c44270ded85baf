import { type Cache, CistaError } from "../core/index.js";
import { Feeding } from "./feeding.js";
import type { StoreOptions } from "./store-options.js";

export type { StoreOptions } from "./store-options.js";

/** Where a cache's entries are kept while no page holds them. */
export interface Store {
  /** Stores changed entries. Rejects with the browser's error, of a full disk for example: they are then still to be stored. */
  flush(): Promise<void>;
  /** Forgets all stored entries. The cache keeps its values. For a sign-out `cache.signOut` does all that is to be done. */
  clear(): Promise<void>;
  /** Stores changed entries, and from then on nothing. To be called before the cache is disposed of. */
  close(): Promise<void>;
}

/**
 * Keeps a cache's values in the browser (IndexedDB), over reloads of the page. Takes in stored entries, with their age, where
 * nothing is held yet; from then on stores changed entries: a second later, or as soon as the page is hidden.
 * `noStore` values are never stored (RFC 9111 §5.2.2.5); invalidated and deleted entries are forgotten here too, and
 * everything by `cache.signOut`, also in another tab.
 * Rejects with the browser's error where there is no database to be had; the cache works without.
 * @throws CistaError code "invalid-duration"; code "no-page" on a server; code "database-timeout"
 * where the database does not open in 5 s
 * @example
 * const store = await openStore(cache, { sources: [hut, region], keepFor: "1d" });
 */
export async function openStore(cache: Cache, options: StoreOptions = {}): Promise<Store> {
  if (!options.backend && (typeof document === "undefined" || typeof indexedDB === "undefined")) {
    throw new CistaError(
      "no-page",
      DEVELOPMENT &&
        "openStore keeps entries in a page's own database, and there is no page here: call it in the browser only. On a server, take a snapshot and send it along with the page.",
    );
  }
  const feeding = new Feeding(cache, options);
  await feeding.begin();
  return {
    flush: () => feeding.flush(),
    clear: () => feeding.clear(),
    close: () => feeding.close(),
  };
}
