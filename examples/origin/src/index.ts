export type { Fault } from "./faults.js";
export { type OriginOptions, type RunningOrigin, startOrigin } from "./origin.js";
export type { Count } from "./tally.js";
export type { BasketNight, Bunks, Hut, Route } from "./world.js";
