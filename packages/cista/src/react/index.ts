/**
 * The binding for React 18.3 and newer.
 * @module cista/react
 */

export { Boundary, type BoundaryProps } from "./boundary.js";
export { CistaProvider, useCache } from "./context.js";
export type { LampElement } from "./elements.js";
export { Outcome, type OutcomeProps, type ValuesIn } from "./outcome.js";
export { useDebounced } from "./use-debounced.js";
export { useOutbox } from "./use-outbox.js";
export { type PageStatus, type PagesReading, usePages } from "./use-pages.js";
export { type ReadingOptions, useReading } from "./use-reading.js";
export { type ReadingSpec, type ReadingsOf, useReadings, useValues, type ValuesOf } from "./use-readings.js";
export { useValue } from "./use-value.js";
export { type RunWrite, useWrite, type WriteResult, type WriteStatus } from "./use-write.js";
