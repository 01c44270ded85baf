/**
 * The base of all bindings: no framework, no DOM. See "How to write a binding" in the guide.
 * @module cista/binding
 */
export type { AnyReading } from "../core/doors/readings.js";
export { tellWithin } from "../core/doors/readings.js";
export { AccessTracker } from "./access-tracker.js";
export {
  type Asked,
  Asking,
  type AttachedView,
  type BindingOptions,
  type BindingParams,
  intervalNow,
  isKnown,
  isWaiting,
  type KnownParams,
  type LiveOptions,
  type LiveParams,
  type MaybeFollowed,
  type OptionsFirst,
  optionsIn,
  placeArguments,
  placeFollowed,
  refuseNoProvider,
  refuseSourceOfRender,
  shownOnPage,
  valueNow,
  valueOnServer,
  valueToShow,
} from "./asked.js";
export { Follower } from "./follower.js";
export { type Listed, nothingListed } from "./listed.js";
export { Live, makeLiveReading, type Signal } from "./live.js";
export { type Member, members } from "./members.js";
export { Runner, type RunWrite, type WriteResult, type WriteStatus } from "./runner.js";
