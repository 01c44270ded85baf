/**
 * The binding for React 18.3 and newer.
 * @module cista/react
 */

export { Boundary, type BoundaryProps } from "./boundary.js";
export { CistaProvider, useCache } from "./context.js";
export { Outcome, type OutcomeProps } from "./outcome.js";
export { type ReadingOptions, useReading } from "./use-reading.js";
export { useValue } from "./use-value.js";
export { type RunWrite, useWrite, type WriteStatus } from "./use-write.js";
