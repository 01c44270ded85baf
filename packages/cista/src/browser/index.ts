/**
 * The page: its visibility and network as environment, its database as store.
 * @module cista/browser
 */

export type { StoreBackend, StoreChanges, StoredRecord } from "./backend.js";
export { pageEnvironment } from "./environment.js";
export { type KeptWrite, type Outbox, type OutboxOptions, openOutbox } from "./outbox/index.js";
export type { KeptRecord, OutboxBackend, StoredFailure } from "./outbox/records.js";
export { receivePage } from "./receive.js";
export { openStore, type Store, type StoreOptions } from "./store.js";
export { joinTabs, type Tabs, type TabsOptions } from "./tabs/index.js";
