import { found } from "./program.mjs";

/** The path of Redis, or undefined. */
export function redisPath() {
  return found(["redis-server"]);
}
