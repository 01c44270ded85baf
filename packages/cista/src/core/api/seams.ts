/** Time and chance, as the core sees them. */
export interface Clock {
  /** Milliseconds since the Unix epoch. */
  now(): number;
  /**
   * Calls back once, after a delay in milliseconds.
   * @param awaited somebody waits for what it does: in Node such a timer, and no other, may keep the process alive
   */
  setTimer(callback: () => void, delay: number, awaited?: boolean): unknown;
  clearTimer(timer: unknown): void;
  /** At least 0, less than 1. For pauses between tries, not for secrets. */
  random(): number;
  /** Another text at each call, which nobody can predict: for Idempotency-Key. Default: 128 bits of the platform's `crypto.getRandomValues`. */
  uniqueText?(): string;
}

/** Whether somebody looks at the page, and whether there is a network. */
export interface Environment {
  readonly visible: boolean;
  readonly online: boolean;
  /** Calls after every change; returns its own end. */
  subscribe(listener: () => void): () => void;
  /** Other pages of the same site, and what they do when somebody signs out. Left out where there are none. */
  readonly others?: {
    /** @param partition of the cache in which it was done */
    tellSignOut(partition: string | undefined): void;
    onSignOut(listener: (partition: string | undefined) => void): () => void;
  };
}

/**
 * A server, or a program without a page: always looked at, always connected.
 * @internal
 */
export const steadyEnvironment: Environment = { visible: true, online: true, subscribe: () => () => {} };
