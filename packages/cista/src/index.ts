import { pageEnvironment } from "./browser/environment.js";
import { type Cache, type CacheOptions, CoreCache, steadyEnvironment } from "./core/index.js";
import { systemClock } from "./system-clock.js";

export type {
  Answer,
  AnswerDetails,
  ArgumentsOf,
  Branches,
  Cache,
  CacheOptions,
  Cause,
  Clock,
  Duration,
  Empty,
  EntryInfo,
  Environment,
  Failed,
  FailureKind,
  Freshness,
  Journal,
  JournalEvent,
  JournalKind,
  LoadCall,
  LoadContext,
  Loaded,
  Loading,
  LoadMode,
  Missing,
  OutputOf,
  Params,
  Problem,
  Reading,
  ReadOptions,
  Ready,
  RequestPhase,
  Retry,
  Selector,
  Snapshot,
  Source,
  SourceDefinition,
  StandardSchema,
  Trigger,
  Validator,
  View,
  ViewOptions,
} from "./core/index.js";
export { answer, CistaError, Failure, match, missing, source, unchanged } from "./core/index.js";

/**
 * A cache: one per application in a browser, one per request on a server.
 * Without options it goes by the platform's clock and, in a page, by the page's visibility and network.
 * @throws CistaError code "duration" or "capacity" for options that cannot be
 */
export function createCache(options: CacheOptions = {}): Cache {
  const inPage = typeof document === "object" && typeof window === "object";
  return new CoreCache({
    ...options,
    clock: options.clock ?? systemClock,
    environment: options.environment ?? (inPage ? pageEnvironment() : steadyEnvironment),
  });
}
