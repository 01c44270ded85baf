/** The store, as long as it answers. Rule T9. */
import type { FleetStore } from "./store.js";

/** After so many calls in a row that failed, none is made until the store answers again. */
const mostFailures = 3;

export class Contact {
  readonly #store: FleetStore;
  readonly #onAway: () => void;
  #failures = 0;
  #isAway = false;
  /** How often a call failed. */
  failures = 0;

  constructor(store: FleetStore, onAway: () => void) {
    this.#store = store;
    this.#onAway = onAway;
  }

  get isAway(): boolean {
    return this.#isAway;
  }

  /** Undefined where there is no answer. */
  async ask<T>(call: (store: FleetStore) => Promise<T>): Promise<T | undefined> {
    return this.#isAway ? undefined : this.askAnyway(call);
  }

  /** Also while it is away: to find out whether it is back. */
  async askAnyway<T>(call: (store: FleetStore) => Promise<T>): Promise<T | undefined> {
    try {
      const came = await call(this.#store);
      this.#failures = 0;
      return came;
    } catch {
      this.failures++;
      if (++this.#failures >= mostFailures && !this.#isAway) {
        this.#isAway = true;
        this.#onAway();
      }
      return undefined;
    }
  }

  /** It answers, and has been told what it missed. */
  return(): void {
    this.#isAway = false;
  }
}
