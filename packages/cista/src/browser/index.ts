/**
 * The page: its visibility and network as environment, its database as store.
 * @module cista/browser
 */

export { pageEnvironment } from "./environment.js";
export { openStore, type Store, type StoreOptions } from "./store.js";
