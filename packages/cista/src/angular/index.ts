/**
 * The binding for Angular 20 and newer, with and without zones.
 * @module cista/angular
 */

export type { RunWrite, WriteResult, WriteStatus } from "../binding/runner.js";
export type { PageStatus } from "../http/list-ends.js";
export { injectDebounced } from "./inject-debounced.js";
export { injectPages, type PagesSignal } from "./inject-pages.js";
export {
  type AngularOptions,
  asResource,
  injectCache,
  injectOutbox,
  injectReading,
  injectWrite,
  provideCache,
  type ReadingOptions,
  type ReadingResource,
  type ReadingSignal,
} from "./inject-reading.js";
export { injectReadings } from "./inject-readings.js";
