/**
 * The door for the library's other rooms (http, react, browser, lamp, rehearsal): what they need of the core and programs do
 * not. Everything else comes from `index.ts`, as it does for programs.
 */
export { isAnswer } from "./api/answer.js";
export { checked, checkedAnswer, loadedValueOf, wasChecked } from "./api/check.js";
export { milliseconds } from "./api/duration.js";
export { asFailure, isToldKind, mayBeCovered, preview } from "./api/failure.js";
export {
  type AnyReading,
  type Members,
  makeEmpty,
  makeReading,
  missingFailure,
  nothing,
  readingWith,
} from "./api/reading.js";
export { type Change, sendLater, steadyEnvironment, type WriteKeeper } from "./api/seams.js";
export { wasJustMade } from "./api/source.js";
export { type StoredEntry, wellFormed } from "./api/stored.js";
export { CoreCache } from "./cache.js";
export { onChange } from "./features/changing/change-listeners.js";
export {
  adoptChange,
  adoptEntry,
  isForHere,
  meansStored,
  type PlainSelector,
  plainSelector,
} from "./features/storing/adopting.js";
export { expectWithPage, restoreWith } from "./features/storing/restoring.js";
export { detailsOf, snapshotWith, staysHere } from "./features/storing/snapshot.js";
export { type LaidWrite, layWrite, setKeeper } from "./features/writing/laying.js";
export { onUserChanged } from "./kernel/users.js";
export { changeInterval } from "./kernel/view.js";
export { freezeDeep } from "./lib/freeze.js";
export { keyText } from "./lib/key.js";
export { omitUndefined } from "./lib/omit-undefined.js";
export { picked } from "./lib/picking.js";
export { emptyReadingOf, pageClass, type Rendering, renderingOf, setRendering } from "./lib/rendering.js";
export { isIterable } from "./lib/request.js";
export { share } from "./lib/share.js";
export {
  clockOf,
  contextOf,
  definedElsewhere,
  environmentOf,
  onDispose,
  partitionOf,
  tellWithin,
} from "./state/core.js";
