/** The options of a store. */
import type { Duration, Source } from "../core/index.js";
import type { StoreBackend } from "./backend.js";

export interface StoreOptions {
  /** The database's name. Default "cista"; a cache with a partition has one of its own. */
  name?: string;
  /** The only sources whose entries are stored; stored entries of others are forgotten. Default: all sources. */
  sources?: readonly Source<any, any>[];
  /** An entry that was stored longer ago is dropped. Default "7d". */
  keepFor?: Duration;
  /** Entries stored at most; the oldest go first. Default 1,000. */
  capacity?: number;
  /** Bytes stored at most, about; the oldest go first, and a value of more than a tenth of it is not stored. Default 20 MiB. */
  maxBytes?: number;
  /** Where the records are kept. Default: IndexedDB. */
  backend?: StoreBackend;
}
