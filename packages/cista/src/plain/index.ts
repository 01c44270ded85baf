/**
 * For pages without a framework: a function of yours is called with the reading, again each time that it has to be.
 * @module cista/plain
 */

export type { RunWrite, WriteResult, WriteStatus } from "../binding/runner.js";
export type { PageStatus, PagesReading } from "../http/list-ends.js";
export { type DebouncedInput, debounceInput } from "./debounce.js";
export { showPages } from "./show-pages.js";
export { outboxList, type Shown, showReading, writeRunner } from "./show-reading.js";
export { showReadings } from "./show-readings.js";
