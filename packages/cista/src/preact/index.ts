/**
 * The binding for Preact 10 and newer. For Suspense, use `cista/react` over `preact/compat`.
 * @module cista/preact
 */
export type { ReadingSpec, ReadingsOf } from "../binding/reading-list.js";
export type { RunWrite, WriteResult, WriteStatus } from "../binding/runner.js";
export type { Texts } from "../binding/texts.js";
export type { PageStatus, PagesReading } from "../http/list-ends.js";
export type { LampElement } from "./elements.js";
export { Outcome, type OutcomeProps } from "./outcome.js";
export { useDebounced } from "./use-debounced.js";
export { usePages } from "./use-pages.js";
export { CistaProvider, type ReadingOptions, useCache, useOutbox, useReading, useWrite } from "./use-reading.js";
export { useReadings } from "./use-readings.js";
