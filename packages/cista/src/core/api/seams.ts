import type { GroupSelector, Selector } from "./contract.js";
import type { RunOptions, Write } from "./write-contract.js";

/** Time and chance, as the core sees them. */
export interface Clock {
  /** Milliseconds since the Unix epoch. */
  now(): number;
  /**
   * Calls back once, after a delay in milliseconds.
   * @param awaited a caller waits for the callback: in Node such a timer, and no other, may keep the process alive
   */
  setTimer(callback: () => void, delay: number, awaited?: boolean): unknown;
  clearTimer(timer: unknown): void;
  /** At least 0, less than 1. For pauses between tries, not for secrets. */
  random(): number;
  /** An unpredictable text, another one at each call: for Idempotency-Key. Default: 128 bits of the platform's `crypto.getRandomValues`. */
  uniqueText?(): string;
}

/** Whether the page is visible, and whether there is a network. */
export interface Environment {
  readonly visible: boolean;
  readonly online: boolean;
  /** Calls after every change; returns its own end. */
  subscribe(listener: () => void): () => void;
  /** Other pages of the same site. Left out where there are none. */
  readonly others?: {
    /**
     * Joins them for one cache.
     * @param onSignOut called when another cache of the site has signed out, with its partition; never for this one's own
     */
    join(onSignOut: (partition: string | undefined) => void): {
      /** Tells all others that this cache has signed out. */
      tellSignOut(partition: string | undefined): void;
      leave(): void;
    };
  };
}

/**
 * A server, or a program without a page: always looked at, always connected.
 * @internal
 */
export const steadyEnvironment: Environment = { visible: true, online: true, subscribe: () => () => {} };

/** A selector as it can be told to another tab: without functions, and with a source by its name. */
export type PlainSelector = "all" | { key: string } | GroupSelector | { of: string; params?: unknown };

/**
 * A change that a program has made to entries, for other tabs and processes and for stored entries: an invalidation, a deletion or a put.
 * @internal
 */
export interface Change {
  readonly kind: "invalidate" | "delete" | "put";
  /** The selectors of the call; none for a put. A selector that is a function is told by the keys that it hit. */
  readonly selectors: readonly (Selector | PlainSelector)[];
  /** The keys of the entries that were hit here. */
  readonly keys: readonly string[];
  /** The other tabs and processes know of it: one of them has told it, or each finds it out by itself. */
  readonly isHeard: boolean;
}

/**
 * Is given the writes that are to be kept until they have been sent, in place of their being sent.
 * @internal
 */
export interface WriteKeeper {
  run(write: Write<any, any>, input: unknown, options: RunOptions): Promise<unknown>;
}

/**
 * The reason to abort a run with whose change another tab or a later page is to send: its layers stay.
 * @internal
 */
export const sendLater: unique symbol = Symbol.for("cista.send-later") as never;
