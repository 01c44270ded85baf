/**
 * The binding for Svelte 5.
 * @module cista/svelte
 */

export type { RunWrite, WriteResult, WriteStatus } from "../binding/runner.js";
export type { PageStatus, PagesReading } from "../http/list-ends.js";
export { useDebounced } from "./use-debounced.js";
export { usePages } from "./use-pages.js";
export {
  contextOf,
  provideCache,
  type ReadingOptions,
  useCache,
  useOutbox,
  useReading,
  useValue,
  useWrite,
} from "./use-reading.js";
export { useReadings } from "./use-readings.js";
