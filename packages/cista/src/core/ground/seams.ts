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
  /** At least 0, less than 1. */
  random(): number;
}

/** Whether somebody looks at the page, and whether there is a network. */
export interface Environment {
  readonly visible: boolean;
  readonly online: boolean;
  /** Calls after every change; returns its own end. */
  subscribe(listener: () => void): () => void;
}

/**
 * A server, or a program without a page: always looked at, always connected.
 * @internal
 */
export const steadyEnvironment: Environment = { visible: true, online: true, subscribe: () => () => {} };
