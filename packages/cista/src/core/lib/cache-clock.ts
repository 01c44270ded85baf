/** A clock with timers of any length, on top of a platform's timers, and a time that never goes back. Rules R5, F10. */
import type { Clock } from "../api/seams.js";
import { asSmallInteger } from "./small-integer.js";

/** Platforms keep a timer's delay in 31 bits; one that is longer would fire at once. Milliseconds, about 24.8 days. */
const longestDelay = 2 ** 31 - 1;

/** Platforms' timers ring a little early by the clock: by less than this, in milliseconds. */
const earliestRing = 1000;

/** A timer whose delay takes several of the platform's timers, one after the other. */
interface LongTimer {
  current: unknown;
}

/**
 * The clock of one cache: any clock, with timers of any length. `Infinity` sets no timer. After `stop` none is set any
 * more (rule S3).
 */
export class CacheClock implements Clock {
  /** The moment from which `elapsed` counts. A clock that is put back takes it along. Milliseconds since the Unix epoch. */
  epoch: number;
  readonly #clock: Clock;
  #elapsed = 0;
  readonly #long = new WeakSet<object>();
  #stopped = false;

  constructor(clock: Clock) {
    this.#clock = clock;
    this.epoch = clock.now();
  }

  /** Milliseconds since the cache was made. While the clock is put back no time passes, and none is taken away (rule F10). */
  elapsed(): number {
    const elapsed = asSmallInteger(this.#clock.now() - this.epoch);
    if (elapsed >= this.#elapsed) this.#elapsed = elapsed;
    else this.epoch += elapsed - this.#elapsed;
    return this.#elapsed;
  }

  /** A timer has rung that was set for a moment: so much has passed, though the clock was put back meanwhile. */
  reach(moment: number): void {
    const missing = moment - this.elapsed();
    if (missing < earliestRing) return;
    this.epoch -= missing;
    this.#elapsed = moment;
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

/** 128 unpredictable bits as text: from one such text no other can be computed. */
function randomText(): string {
  const bytes = globalThis.crypto.getRandomValues(new Uint8Array(16));
  return Array.from(bytes, (byte) => byte.toString(16).padStart(2, "0")).join("");
}
