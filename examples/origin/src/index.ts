export type { Fault } from "./faults.js";
export { onlyFromHere } from "./guard.js";
export { type OriginOptions, type RunningOrigin, startOrigin } from "./origin.js";
export type { Count } from "./tally.js";
export {
  type BasketNight,
  type Bunks,
  type Hut,
  type Note,
  type Notice,
  type Route,
  storyDay,
  World,
} from "./world.js";
