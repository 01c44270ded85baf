export { CoreCache } from "./cache.js";
export { type Answer, type AnswerDetails, answer, missing, unchanged, type Validator } from "./ground/answer.js";
export type { OutputOf, StandardSchema } from "./ground/check.js";
export type * from "./ground/contract.js";
export type { Duration } from "./ground/duration.js";
export {
  CistaError,
  type CistaErrorCode,
  Failure,
  type FailureDetails,
  type FailureKind,
  type Problem,
} from "./ground/failure.js";
export type { Freshness } from "./ground/freshness.js";
export type { Cause, Journal, JournalEvent, JournalKind } from "./ground/journal.js";
export { jsonForScript } from "./ground/json-for-script.js";
export type { Params } from "./ground/key.js";
export { omitUndefined } from "./ground/omit-undefined.js";
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
} from "./ground/reading.js";
export { match } from "./ground/reading.js";
export { type Clock, type Environment, steadyEnvironment } from "./ground/seams.js";
export type { Retry, Trigger } from "./ground/settings.js";
export { share } from "./ground/share.js";
export { source } from "./ground/source.js";
export type { Snapshot } from "./ground/stored.js";
export { write, writeBy } from "./work/write.js";
