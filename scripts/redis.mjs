import { found } from "./program.mjs";

/** Redis goes by its own clock, and does not start with another laid over it, as `npm test` lays one over what it runs. */
export function redisEnvironment() {
  const { LD_PRELOAD: _, ...env } = process.env;
  return env;
}

/** The path of Redis, or undefined. */
export function redisPath() {
  return found(["redis-server"]);
}
