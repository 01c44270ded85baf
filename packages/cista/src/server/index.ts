/**
 * Pages that are rendered on a server with their data, for a browser that goes on from there.
 * @module cista/server
 */
export { openPage, type PageOptions, type ServerPage } from "./page.js";
export type { NodeWritable } from "./streams.js";
