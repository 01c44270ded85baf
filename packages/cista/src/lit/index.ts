/**
 * The binding for Lit 3 and newer, as reactive controllers.
 * @module cista/lit
 */

export type { RunWrite, WriteResult, WriteStatus } from "../binding/runner.js";
export type { PageStatus, PagesReading } from "../http/list-ends.js";
export {
  type ControllerHost,
  cacheOf,
  OutboxController,
  provideCache,
  ReadingController,
  type ReadingOptions,
  WriteController,
} from "./controllers.js";
export { DebouncedController } from "./debounced-controller.js";
export { PagesController } from "./pages-controller.js";
export { ReadingsController } from "./readings-controller.js";
