/** What a store may be told. */
import type { Duration, Source } from "../core/index.js";
import type { StoreBackend } from "./backend.js";

export interface StoreOptions {
  /** The database's name. Default "cista"; a cache with a partition has one of its own. */
  name?: string;
  /** The only ones whose entries are stored; what is stored of others is forgotten. Default: all sources. */
  sources?: readonly Source<any, any>[];
  /** What was stored longer ago is not taken in any more, and dropped. Default "7d". */
  keepFor?: Duration;
  /** Entries stored at most; the oldest go first. Default 1,000. */
  capacity?: number;
  /** Bytes stored at most, about; the oldest go first, and a value of more than a tenth of it is not stored. Default 20 MiB. */
  maxBytes?: number;
  /** Where the records are kept. Default: IndexedDB. */
  backend?: StoreBackend;
}
