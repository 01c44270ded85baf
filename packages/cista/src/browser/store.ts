import { type Cache, CistaError } from "../core/index.js";
import { Feeding } from "./feeding.js";
import type { StoreOptions } from "./store-options.js";

export type { StoreOptions } from "./store-options.js";

/** Where a cache's entries are kept while no page holds them. */
export interface Store {
  /** Stores what has changed. Rejects with what the browser says, of a full disk for example: it is then still to be stored. */
  flush(): Promise<void>;
  /** Forgets all that is stored. The cache keeps what it holds; when somebody signs out, `cache.signOut` does all that is to be done. */
  clear(): Promise<void>;
  /** Stores what has changed, and from then on nothing. To be called before the cache is disposed of. */
  close(): Promise<void>;
}

/**
 * Keeps what a cache holds in the browser (IndexedDB), over reloads of the page. Takes in what is stored, as old as it is,
 * where nothing is held yet; from then on stores what changes: a second later, or as soon as nobody looks at the page.
 * `noStore` values are never stored (RFC 9111 §5.2.2.5); what is invalidated or deleted is forgotten here too, and
 * everything by `cache.signOut`, also in another tab.
 * Rejects with what the browser says where there is no database to be had; the cache works without.
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
