/** What programs get of the core, name by name. What only the rooms of the library need comes through `core/doors`. */
export {
  type Answer,
  type AnswerDetails,
  answer,
  missing,
  type SharedUse,
  unchanged,
  type Validator,
} from "./api/answer.js";
export type { OutputOf, StandardSchema } from "./api/check.js";
export type {
  Cache,
  CacheOptions,
  EntryHandle,
  EntryInfo,
  EntryTest,
  FailedAction,
  GroupSelector,
  PartOf,
  ReadOptions,
  Selector,
  SourceEntry,
  SourceSelector,
} from "./api/contract.js";
export type { Duration } from "./api/duration.js";
export {
  CistaError,
  type CistaErrorCode,
  Failure,
  type FailureDetails,
  type FailureKind,
  type Problem,
} from "./api/failure.js";
export type { Freshness, Policy } from "./api/freshness.js";
export type { Cause, Journal, JournalEvent, JournalKind } from "./api/journal.js";
export { jsonForScript } from "./api/json-for-script.js";
export type {
  Branches,
  Empty,
  Failed,
  Interval,
  Loading,
  Missing,
  Reading,
  Ready,
  RequestPhase,
  View,
  ViewOptions,
} from "./api/reading.js";
export { match } from "./api/reading.js";
export type { Clock, Environment } from "./api/seams.js";
export type { Retry, Trigger } from "./api/settings.js";
export { source } from "./api/source.js";
export type {
  ArgumentsOf,
  CompositeContext,
  Interceptor,
  Known,
  KnownQuestion,
  LoadCall,
  LoadChanges,
  LoadContext,
  Loaded,
  LoadMode,
  ParamsLeftOut,
  ParamsOf,
  ParamsPassedAlone,
  SaysNoParams,
  Source,
  SourceDefinition,
  ValueOf,
} from "./api/source-contract.js";
export type { Snapshot } from "./api/stored.js";
export type {
  LayerEditor,
  LayerTarget,
  LayerTargets,
  RunArguments,
  RunOptions,
  SendContext,
  SendingPhase,
  Write,
  WriteDefinition,
} from "./api/write-contract.js";
export { matching } from "./features/changing/selector.js";
export { type CompositeDefinition, composite } from "./features/composite/composite.js";
export { entriesOf, where } from "./features/observing/entries.js";
export { intercept } from "./features/observing/intercept.js";
export { journalOf } from "./features/observing/journaling.js";
export { restoreSnapshot } from "./features/storing/restoring.js";
export { takeSnapshot } from "./features/storing/snapshot.js";
export { write } from "./features/writing/write.js";
export type { Params } from "./lib/key.js";
