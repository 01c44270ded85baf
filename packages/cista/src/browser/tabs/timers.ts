import type { Clock } from "../../core/index.js";

/** The timers of one tab, which end with it. */
export class Timers {
  readonly #clock: Clock;
  readonly #timers = new Set<unknown>();

  constructor(clock: Clock) {
    this.#clock = clock;
  }

  /** Calls back after so many milliseconds. Returns a function that cancels it. */
  after(delay: number, callback: () => void): () => void {
    const timer = this.#clock.setTimer(() => {
      this.#timers.delete(timer);
      callback();
    }, delay);
    this.#timers.add(timer);
    return () => {
      this.#timers.delete(timer);
      this.#clock.clearTimer(timer);
    };
  }

  clear(): void {
    for (const timer of this.#timers) this.#clock.clearTimer(timer);
  }
}
