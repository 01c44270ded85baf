/**
 * The page as environment: visibility and network.
 * @module cista/browser
 */

export { pageEnvironment } from "./environment.js";
