/** The user's own client, of one of the two that are in common use: their common calls, and their differences. */

import { preview } from "../../core/doors/answers.js";
import { CistaError } from "../../core/index.js";

/**
 * A connection to Redis or a cluster, as `ioredis` and `redis` (both 5 or later) make it. It stays the program's: it
 * is neither configured nor closed here. A second one, for messages, is made by its `duplicate`.
 */
export interface RedisLike {
  duplicate(): RedisLike;
  on(event: string, listener: (...heard: any[]) => void): unknown;
}

/** The calls that the store needs. */
export interface RedisClient {
  /** Sends one command. */
  send(command: readonly string[]): Promise<unknown>;
  /** Calls back with each message of a channel. Returns its end. */
  subscribe(channel: string, listener: (message: string) => void): () => void;
}

/** Of ioredis. */
interface CallClient extends RedisLike {
  call(command: string, ...words: string[]): Promise<unknown>;
  subscribe(channel: string): Promise<unknown>;
  disconnect(): void;
}

/** Of redis. */
interface SendClient extends RedisLike {
  /** Only where it is a cluster's. */
  getSlotMaster?(slot: number): unknown;
  sendCommand(command: readonly string[]): Promise<unknown>;
  connect(): Promise<unknown>;
  subscribe(channel: string, listener: (message: string) => void): Promise<unknown>;
  destroy?(): void;
  disconnect?(): Promise<unknown>;
}

/** @throws CistaError code "invalid-fleet-options" for an object that is neither */
export function clientOf(redis: RedisLike): RedisClient {
  const { call, sendCommand, duplicate, getSlotMaster } = (redis ?? {}) as Partial<CallClient & SendClient>;
  if (typeof duplicate === "function" && typeof call === "function") return ofCall(redis as CallClient);
  if (typeof duplicate === "function" && typeof sendCommand === "function") {
    return typeof getSlotMaster === "function" ? ofCluster(redis as ClusterClient) : ofSend(redis as SendClient);
  }
  throw new CistaError(
    "invalid-fleet-options",
    DEVELOPMENT &&
      `shareFleet needs a client of ioredis or redis as { redis }, but it is ${preview(redis)}. For example: new Redis(url) of ioredis.`,
  );
}

/** Of redis, for a cluster: it is told by which key it finds the node. */
interface ClusterClient extends Omit<SendClient, "sendCommand"> {
  sendCommand(key: string | undefined, isReadonly: boolean, command: readonly string[]): Promise<unknown>;
}

/** Its own errors are told by the commands that fail; an "error" event without a listener would end the process. */
const ignore = () => {};

function ofCall(redis: CallClient): RedisClient {
  return {
    send: ([name = "", ...words]) => redis.call(name, ...words),
    subscribe(channel, listener) {
      const ear = redis.duplicate() as CallClient;
      ear.on("error", ignore);
      ear.on("message", (_channel: string, message: string) => listener(message));
      // Also where the program's options let no command wait for a connection.
      const subscribe = () => void ear.subscribe(channel).catch(ignore);
      ear.on("ready", subscribe);
      subscribe();
      return () => ear.disconnect();
    },
  };
}

function ofCluster(redis: ClusterClient): RedisClient {
  const keyIn = (command: readonly string[]) => command.find((word) => word.startsWith("{"));
  return ofSend(redis as unknown as SendClient, (command) => redis.sendCommand(keyIn(command), false, command));
}

function ofSend(redis: SendClient, send: RedisClient["send"] = (command) => redis.sendCommand(command)): RedisClient {
  return {
    send,
    subscribe(channel, listener) {
      const ear = redis.duplicate() as SendClient;
      ear.on("error", ignore);
      ear
        .connect()
        .then(() => ear.subscribe(channel, listener))
        .catch(ignore);
      return () => {
        try {
          if (ear.destroy) ear.destroy();
          else void ear.disconnect?.().catch(ignore);
        } catch {} // not connected
      };
    },
  };
}
