/** The clock, environment, partition and context of a cache, and its end. A door for the library's other rooms: see scripts/rooms.mjs. */
export { steadyEnvironment } from "../api/seams.js";
export { CoreCache } from "../cache.js";
export { clockOf, contextOf, environmentOf, onDispose, partitionOf } from "../state/core.js";
