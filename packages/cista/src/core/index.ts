export { type Answer, type AnswerDetails, answer, missing, unchanged, type Validator } from "./answer.js";
export type { Around, LoadCall } from "./asking.js";
export { CoreCache } from "./cache.js";
export type * from "./contract.js";
export type { Duration } from "./duration.js";
export { CistaError, Failure, type FailureDetails, type FailureKind, type Problem } from "./failure.js";
export type { Freshness } from "./freshness.js";
export type { Journal, JournalEvent, JournalKind } from "./journal.js";
export type { Params } from "./key.js";
export type { ReadOptions } from "./reader.js";
export type { Branches, Empty, Failed, Loading, Missing, Reading, Ready, RequestPhase } from "./reading.js";
export { match } from "./reading.js";
export { type Clock, type Environment, steadyEnvironment } from "./seams.js";
export type { Selector } from "./selector.js";
export { share } from "./share.js";
export type { Snapshot } from "./snapshot.js";
export * from "./source.js";
export type { View, ViewOptions } from "./view.js";
export {
  type LayerEditor,
  type RunArguments,
  type RunOptions,
  type SendContext,
  type SendingPhase,
  type Write,
  type WriteDefinition,
  write,
  writeBy,
} from "./write.js";
