/**
 * The binding for React 18.3 and newer.
 * @module cista/react
 */

export type { ReadingSpec, ReadingsOf, ValuesOf } from "../binding/reading-list.js";
export type { Texts } from "../binding/texts.js";
export type { PageStatus, PagesReading } from "../http/list-ends.js";
export { Boundary, type BoundaryProps } from "./boundary.js";
export { CistaProvider, useCache } from "./context.js";
export type { LampElement } from "./elements.js";
export { Outcome, type OutcomeProps, type ValuesIn } from "./outcome.js";
export { useDebounced } from "./use-debounced.js";
export { useOutbox } from "./use-outbox.js";
export { usePages } from "./use-pages.js";
export { type ReadingOptions, useReading } from "./use-reading.js";
export { useReadings, useValues } from "./use-readings.js";
export { useValue } from "./use-value.js";
export { type RunWrite, useWrite, type WriteResult, type WriteStatus } from "./use-write.js";
