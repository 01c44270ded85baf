/**
 * The binding for Vue 3.5 and newer.
 * @module cista/vue
 */

export type { RunWrite, WriteResult, WriteStatus } from "../binding/runner.js";
export type { Texts } from "../binding/texts.js";
export type { PageStatus, PagesReading } from "../http/list-ends.js";
export { Outcome, type OutcomeComponent, type OutcomeSlots, textsKey } from "./outcome.js";
export { useDebounced } from "./use-debounced.js";
export { usePages } from "./use-pages.js";
export {
  CistaPlugin,
  cacheKey,
  type ReadingOptions,
  type ReadingParams,
  useCache,
  useOutbox,
  useReading,
  useValue,
  useWrite,
} from "./use-reading.js";
export { useReadings } from "./use-readings.js";
