export { type Answer, type AnswerDetails, answer, missing, unchanged, type Validator } from "./answer.js";
export { CoreCache } from "./cache.js";
export type { OutputOf, StandardSchema } from "./check.js";
export type * from "./contract.js";
export type { Duration } from "./duration.js";
export { CistaError, Failure, type FailureDetails, type FailureKind, type Problem } from "./failure.js";
export type { Freshness } from "./freshness.js";
export type { Cause, Journal, JournalEvent, JournalKind } from "./journal.js";
export type { Params } from "./key.js";
export type {
  Branches,
  Empty,
  Failed,
  Loading,
  Missing,
  Reading,
  Ready,
  RequestPhase,
  View,
  ViewOptions,
} from "./reading.js";
export { match } from "./reading.js";
export { type Clock, type Environment, steadyEnvironment } from "./seams.js";
export type { Retry, Trigger } from "./settings.js";
export { share } from "./share.js";
export { source } from "./source.js";
export type { Snapshot } from "./stored.js";
export { write, writeBy } from "./write.js";
