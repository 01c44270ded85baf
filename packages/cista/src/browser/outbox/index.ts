/** Opens the outbox of a page. Rule O8. */

import { environmentOf, partitionOf } from "../../core/doors/caches.js";
import { type Cache, CistaError, type Write } from "../../core/index.js";
import { browserTabs, type TabPlatform } from "../tabs/platform.js";
import type { KeptWrite } from "./kept-write.js";
import { KeptWrites } from "./kept-writes.js";
import { type OutboxBackend, openRecords } from "./records.js";

export type { KeptWrite } from "./kept-write.js";

export interface OutboxOptions {
  /** The kept writes of the program: a kept one of another write is shown as `unknown`, and not sent. */
  writes: readonly Write<any, any>[];
  /** The database's name begins so. Default "cista"; a cache with a partition has one of its own. */
  name?: string;
  /** Where they are stored. Default: IndexedDB. */
  backend?: OutboxBackend;
  /** @internal */
  platform?: TabPlatform;
}

/** The writes that are kept until they have been sent. */
export interface Outbox {
  /** The writes that wait, are being sent or were refused, in the order in which they were run; the same list until something changes. */
  list(): readonly KeptWrite[];
  /** Calls back after each change of the list. Returns its own end. */
  subscribe(listener: () => void): () => void;
  /** Sends a refused one again: as a new one, behind the others. */
  retry(id: string): Promise<void>;
  /** Gives one up, or puts a refused one away. One that had been sent may have worked: the entries that it lies on are requested. */
  drop(id: string): Promise<void>;
  /** Gives all up. */
  clear(): Promise<void>;
  /** Keeps and sends nothing more from this page. Kept writes stay, for the next page. To be called before the cache is disposed of. */
  close(): void;
}

/**
 * Keeps the writes that are defined with `kept: true` until they have been answered: stored before they are sent, sent by
 * exactly one tab, in the order in which they were run, with the same Idempotency-Key however often; shown by their layers
 * meanwhile, also after a reload and in every tab. Resolves when the writes kept by earlier pages are shown.
 * Where the browser has no database, kept writes are sent like any other, with a warning.
 * @throws CistaError code "no-page" on a server. `cache.run` of a kept write rejects with code "unknown-kept-write" for one that is
 * not among `writes`, with code "invalid-write-input" for an input that cannot be stored
 * @example
 * const book = writeTo(api, { name: "book", kept: true, method: "POST", url: "/api/basket" });
 * const outbox = await openOutbox(cache, { writes: [book] });
 */
export async function openOutbox(cache: Cache, { writes, name = "cista", ...options }: OutboxOptions): Promise<Outbox> {
  const platform = options.platform ?? browserTabs() ?? lonelyTab;
  if (!options.platform && typeof document === "undefined") {
    throw new CistaError(
      "no-page",
      DEVELOPMENT &&
        "openOutbox keeps writes in a page's own database, and there is no page here: call it in the browser only.",
    );
  }
  const partition = partitionOf(cache);
  const own = encodeURIComponent(name);
  // Neither part contains a space or a slash: no two outboxes share a database, nor do an outbox and a store.
  const scope = partition === undefined ? own : `${own} ${encodeURIComponent(partition)}`;
  let backend: OutboxBackend;
  try {
    backend = options.backend ?? (await openRecords(`${scope}/outbox`));
  } catch (thrown) {
    console.warn("Cista: no database can be had here: kept writes are sent like any other.", thrown);
    return {
      list: () => [],
      subscribe: () => () => {},
      async retry() {},
      async drop() {},
      async clear() {},
      close() {},
    };
  }
  const outbox = new KeptWrites(cache, writes, scope, backend, platform, environmentOf(cache));
  await outbox.begin();
  return {
    list: outbox.kept.list,
    subscribe: outbox.kept.subscribe,
    retry: (id) => outbox.retry(id),
    drop: (id) => outbox.drop(id),
    clear: () => outbox.clear(),
    close: () => outbox.close(),
  };
}

/** A page that can hear no other. */
const lonelyTab: TabPlatform = {
  now: () => Date.now(),
  open: () => ({ post() {}, close() {} }),
  locks: undefined,
  onLife: () => () => {},
};
