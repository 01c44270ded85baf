import type { ReactiveController } from "lit";
import { Debounced } from "../binding/debounced.js";
import { clockOf } from "../core/doors/caches.js";
import { milliseconds } from "../core/doors/tools.js";
import { CistaError, type Duration } from "../core/index.js";
import { systemClock } from "../system-clock.js";
import { type ControllerHost, cacheOf } from "./controllers.js";

/**
 * A value once it has stayed the same for a while, for an element: for params that change with each key that is pressed. The
 * first one is there at once. Goes by the clock of the cache that was provided, where there is one.
 * @throws CistaError code "invalid-duration"
 * @example
 * #text = new DebouncedController(this, () => this.text, "300ms");
 * #found = new ReadingController(this, search, () => ({ text: this.#text.value }), { carryOver: true });
 */
export class DebouncedController<V> implements ReactiveController {
  readonly #value: () => V;
  readonly #begin: () => Debounced<V>;
  #debounced: Debounced<V> | undefined;

  constructor(host: ControllerHost, value: () => V, delay: Duration) {
    milliseconds(delay, "delay"); // refused at once
    this.#value = value;
    this.#begin = () => new Debounced<V>(value(), clockFor(host), delay, () => host.requestUpdate());
    host.addController(this);
  }

  get value(): V {
    return this.#debounced ? this.#debounced.value : this.#value();
  }

  hostConnected(): void {}

  hostUpdate(): void {
    this.#debounced ??= this.#begin();
    this.#debounced.see(this.#value());
  }

  hostDisconnected(): void {
    this.#debounced?.stop();
  }
}

function clockFor(host: ControllerHost) {
  try {
    return clockOf(cacheOf(host));
  } catch (thrown) {
    if (thrown instanceof CistaError) return systemClock; // no cache was provided
    throw thrown;
  }
}
