import { keyText, milliseconds } from "../core/doors/tools.js";
import type { Clock, Duration } from "../core/index.js";

/** A value once it has stayed the same for a while. Values are compared as params are; values that cannot be params, by identity. */
export class Debounced<V> {
  /** The first one, or the last that stayed. */
  value: V;
  readonly #clock: Clock;
  readonly #delay: number;
  readonly #settled: () => void;
  #key: unknown;
  #coming: unknown;
  #timer: unknown;

  /** @param settled called when `value` is another one */
  constructor(first: V, clock: Clock, delay: Duration, settled: () => void) {
    this.value = first;
    this.#clock = clock;
    this.#delay = milliseconds(delay, "delay");
    this.#settled = settled;
    this.#key = this.#coming = comparable(first);
  }

  /** Tells the value of this moment. Each other one begins the pause anew. */
  see(value: V): void {
    const key = comparable(value);
    if (Object.is(key, this.#coming)) return;
    this.stop();
    this.#coming = key;
    if (Object.is(key, this.#key)) return;
    this.#timer = this.#clock.setTimer(() => {
      this.#timer = undefined;
      this.#key = key;
      this.value = value;
      this.#settled();
    }, this.#delay);
  }

  /** The value that was told last is not passed on any more. */
  stop(): void {
    if (this.#timer !== undefined) this.#clock.clearTimer(this.#timer as never);
    this.#timer = undefined;
    this.#coming = this.#key;
  }
}

/** The same for values that make the same key. */
export function comparable(value: unknown): unknown {
  try {
    return keyText("", value);
  } catch {
    return value;
  }
}
