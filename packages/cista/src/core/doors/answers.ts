/** Results of loads: answers, their checks, failures. A door for the library's other rooms: see scripts/rooms.mjs. */
export { isAnswer } from "../api/answer.js";
export { checked, checkedAnswer, loadedValueOf, wasChecked } from "../api/check.js";
export { asFailure, isToldKind, mayBeCovered, preview } from "../api/failure.js";
export { missingFailure } from "../api/reading.js";
export { isIterable } from "../lib/request.js";
