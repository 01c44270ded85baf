import type { Cache, Duration } from "cista";
import { type Fleet, shareFleet } from "cista/fleet";
import { Redis } from "ioredis";
import { bunks, hut, huts } from "./data.js";

// What the processes of the board share. The basket is `no-store`, and each walker's own: it is in no list.

let fleet: Fleet | undefined;

/** A page waits so long for Redis. */
const timeout = (process.env.REDIS_TIMEOUT ?? "250ms") as Duration;
/** A process that has not been heard of for so long has lost its request: another asks. */
const leaseTime = (process.env.REDIS_LEASE ?? "4s") as Duration;

/** From now on what pages are made of is shared, through the Redis at this address. */
export function joinFleet(redis: string, title: string): Fleet {
  const sources = [huts, hut, bunks];
  fleet = shareFleet({ redis: new Redis(redis), name: "board", sources, processName: title, timeout, leaseTime });
  return fleet;
}

/** Where there is a fleet, one request's cache answers out of what that has. */
export function share(cache: Cache): void {
  fleet?.share(cache);
}
