export type { Answer, AnswerDetails, Validator } from "./answer.js";
export { answer, missing, unchanged } from "./answer.js";
export type { LoadCall } from "./asking.js";
export { CoreCache } from "./cache.js";
export type { Cache, CacheOptions, EntryInfo } from "./contract.js";
export type { Duration } from "./duration.js";
export type { FailureKind, Problem } from "./failure.js";
export { CistaError, Failure } from "./failure.js";
export type { Freshness } from "./freshness.js";
export type { Journal, JournalEvent, JournalKind } from "./journal.js";
export type { Params } from "./key.js";
export type { ReadOptions } from "./reader.js";
export type { Branches, Empty, Failed, Loading, Missing, Reading, Ready, RequestPhase } from "./reading.js";
export { match } from "./reading.js";
export type { Clock, Environment } from "./seams.js";
export { steadyEnvironment } from "./seams.js";
export type { Selector } from "./selector.js";
export type { Snapshot } from "./snapshot.js";
export type {
  ArgumentsOf,
  Cause,
  LoadContext,
  Loaded,
  LoadMode,
  OutputOf,
  Retry,
  Source,
  SourceDefinition,
  StandardSchema,
  Trigger,
} from "./source.js";
export { source } from "./source.js";
export type { View, ViewOptions } from "./view.js";
