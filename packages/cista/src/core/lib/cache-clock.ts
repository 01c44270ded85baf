/** A clock with timers of any length, on top of a platform's timers. Rule R5. */
import type { Clock } from "../api/seams.js";

/** Platforms keep a timer's delay in 31 bits; one that is longer would fire at once. Milliseconds, about 24.8 days. */
const longestDelay = 2 ** 31 - 1;

/** A timer whose delay takes several of the platform's timers, one after the other. */
interface LongTimer {
  current: unknown;
}

/**
 * The clock of one cache: any clock, with timers of any length. `Infinity` sets no timer. After `stop` none is set any
 * more (rule S3).
 */
export class CacheClock implements Clock {
  readonly #clock: Clock;
  readonly #long = new WeakSet<object>();
  #stopped = false;

  constructor(clock: Clock) {
    this.#clock = clock;
  }

  now(): number {
    return this.#clock.now();
  }

  random(): number {
    return this.#clock.random();
  }

  uniqueText(): string {
    return this.#clock.uniqueText?.() ?? randomText();
  }

  setTimer(callback: () => void, delay: number, awaited?: boolean): unknown {
    if (this.#stopped || delay === Number.POSITIVE_INFINITY) return undefined;
    if (delay <= longestDelay) return this.#clock.setTimer(callback, delay, awaited);
    const timer: LongTimer = { current: undefined };
    this.#long.add(timer);
    const wait = (left: number) => {
      const next = left <= longestDelay ? callback : () => wait(left - longestDelay);
      timer.current = this.#clock.setTimer(next, Math.min(left, longestDelay), awaited);
    };
    wait(delay);
    return timer;
  }

  clearTimer(timer: unknown): void {
    const long = typeof timer === "object" && timer !== null && this.#long.has(timer);
    this.#clock.clearTimer(long ? (timer as LongTimer).current : timer);
  }

  stop(): void {
    this.#stopped = true;
  }
}

/** 128 random bits that nobody can predict, as text: from one such text no other can be computed. */
function randomText(): string {
  const bytes = globalThis.crypto.getRandomValues(new Uint8Array(16));
  return Array.from(bytes, (byte) => byte.toString(16).padStart(2, "0")).join("");
}
