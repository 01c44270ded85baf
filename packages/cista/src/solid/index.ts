/**
 * The binding for Solid 1.9 and newer.
 * @module cista/solid
 */

export type { RunWrite, WriteResult, WriteStatus } from "../binding/runner.js";
export type { Texts } from "../binding/texts.js";
export type { PageStatus, PagesReading } from "../http/list-ends.js";
export { createDebounced } from "./create-debounced.js";
export { createPages } from "./create-pages.js";
export {
  CistaProvider,
  createOutbox,
  createReading,
  createValue,
  createWrite,
  type ReadingOptions,
  useCache,
} from "./create-reading.js";
export { createReadings } from "./create-readings.js";
export type { LampElement } from "./elements.js";
export { Outcome, type OutcomeProps } from "./outcome.js";
