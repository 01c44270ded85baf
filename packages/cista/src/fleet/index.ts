/**
 * A fleet of servers that shares its answers, on Redis.
 * @module cista/fleet
 */

import { preview } from "../core/doors/answers.js";
import { milliseconds } from "../core/doors/tools.js";
import { type Cache, CistaError, type Duration, type Source } from "../core/index.js";
import { systemClock } from "../system-clock.js";
import type { FleetFigures } from "./figures.js";
import { Member } from "./member.js";
import { clientOf, type RedisLike } from "./redis/client.js";
import { RedisStore } from "./redis/store.js";

export type { FleetFigures } from "./figures.js";
export type { RedisLike } from "./redis/client.js";

export interface FleetOptions {
  /** The program's own client of Redis 7 or later: `new Redis(url)` of ioredis, or `createClient({ url })` of redis, connected. */
  redis: RedisLike;
  /** Processes of one name share. Begins all keys in Redis: letters, digits and `-_.:`. */
  name: string;
  /** Entries shared among all users: only those that the HTTP standard lets a shared cache store (RFC 9111 §3); of a source without HTTP, all. */
  sources?: readonly Source<any, any>[];
  /** Entries shared for one user only, among the caches of one partition: also `private` ones. They are not shared by a cache without partition. */
  perUser?: readonly Source<any, any>[];
  /** For how long a process that is not heard of keeps others waiting for its request. Longer than any pause of its event loop. Default "4s". */
  leaseTime?: Duration;
  /** How long Redis may take to answer; after three such calls each process goes on alone until it is back. Default "250ms". */
  timeout?: Duration;
  /** How long at most an entry is kept in Redis. Default "1d". */
  keepFor?: Duration;
  /** A value whose JSON has more bytes is not shared. Default 1,000,000. */
  maxBytes?: number;
  /** So many entries each process remembers itself, in about 64 MiB at most. Default 1,000; false: none. */
  memoryEntries?: number | false;
  /** The name of this process in `cista fleet watch`. Default: its number. */
  processName?: string;
}

/** The entries to invalidate. */
export interface FleetChange {
  /** Groups that answers or definitions name. */
  groups?: readonly string[];
  /** Keys of entries, such as `hut {"id":"h-07"}`. */
  keys?: readonly string[];
  /** All entries of these sources. */
  sources?: readonly Source<any, any>[];
  /** Whose: only for the keys of `perUser` sources. */
  partition?: string;
}

/** One process' part in a fleet. */
export interface Fleet {
  /**
   * Has a cache answer out of the fleet's entries; an invalidation, deletion or put in it, or by its writes, is made in the
   * whole fleet. Make a cache for each request, and share each. Returns its end; `cache.dispose()` ends it too.
   */
  share(cache: Cache): () => void;
  /**
   * Has nothing be trusted any more that this names, in any process.
   * Resolves with true when no process answers with an older value: in some milliseconds, or two seconds where one hangs, or
   * the fleet has only just begun. With false where Redis is away: then it
   * is done here, kept, and told when Redis is back.
   * @example await fleet.invalidate({ groups: ["huts"] });
   */
  invalidate(what: FleetChange): Promise<boolean>;
  /** The counts of this process since it began. */
  readonly counts: Readonly<FleetFigures>;
  /** Whether Redis answers. Without it the process goes on alone. */
  readonly isStoreAway: boolean;
  /** Shares nothing more; requests under way behind an answer are aborted. The client stays open: it is the program's. */
  close(): void;
}

/**
 * Shares the answers of several processes, through the Redis that they already run: one request to the source for all of them,
 * invalidated everywhere at once. See the guide's page on fleets, and docs/fleet-protocol.md.
 * @throws CistaError code "invalid-fleet-options" for a client that is neither ioredis' nor redis', or a name that cannot be
 * @example
 * const fleet = shareFleet({ redis: new Redis(process.env.REDIS_URL), name: "board", sources: [huts, hut] });
 * // for each request:
 * const cache = createCache({ context: request });
 * fleet.share(cache);
 */
export function shareFleet(options: FleetOptions): Fleet {
  const { redis, name, sources = [], perUser = [], leaseTime = "4s", timeout = "250ms", keepFor = "1d" } = options;
  const { maxBytes = 1_000_000, memoryEntries = 1000, processName = String(processNumber() ?? "") } = options;
  if (typeof name !== "string" || !/^[\w.:-]{1,100}$/.test(name)) {
    throw new CistaError(
      "invalid-fleet-options",
      DEVELOPMENT && `The fleet's name is made of letters, digits and -_.: (1 to 100), but it is ${preview(name)}.`,
    );
  }
  const both = sources.find((source) => perUser.some((other) => other.name === source.name));
  if (both) {
    throw new CistaError(
      "invalid-fleet-options",
      DEVELOPMENT &&
        `The source "${both.name}" is shared among all users, or for each one: name it in one of both lists.`,
    );
  }
  const length = milliseconds(leaseTime, "leaseTime");
  const kept = milliseconds(keepFor, "keepFor");
  const process = crypto.randomUUID().slice(0, 13);
  const store = new RedisStore(clientOf(redis), {
    fleet: name,
    name: process,
    lease: length,
    keep: kept,
    timeout: milliseconds(timeout, "timeout"),
  });
  const member = new Member(
    {
      sources,
      perUser,
      lease: length,
      keep: kept,
      maxBytes,
      near: memoryEntries === false ? 0 : memoryEntries,
      title: processName,
    },
    store,
    // A clock that is set makes nothing older.
    { ...systemClock, now: () => performance.now() },
  );
  return {
    share: (cache) => member.share(cache),
    invalidate: ({ groups = [], keys = [], sources: all = [], partition }) =>
      member.invalidateNamed({ groups, keys, sources: all.map((source) => source.name), partition }),
    get counts() {
      return member.figures;
    },
    get isStoreAway() {
      return member.contact.isAway;
    },
    close: () => member.close(),
  };
}

function processNumber(): number | undefined {
  return (globalThis as { process?: { pid?: number } }).process?.pid;
}
