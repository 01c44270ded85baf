/** The store, as long as it answers. Rule T9. */
import { type FleetStore, Refusal } from "./store.js";

/** After so many calls in a row that failed, none is made until the store answers again. */
const mostFailures = 3;

export class Contact {
  readonly #store: FleetStore;
  readonly #onAway: () => void;
  #failures = 0;
  #isAway = false;
  #isWarned = false;
  /** How often a call failed. */
  failures = 0;

  constructor(store: FleetStore, onAway: () => void) {
    this.#store = store;
    this.#onAway = onAway;
  }

  get isAway(): boolean {
    return this.#isAway;
  }

  /** Undefined where there is no answer, or an error. */
  async ask<T>(call: (store: FleetStore) => Promise<T>): Promise<T | undefined> {
    return this.#isAway ? undefined : this.#call(call, true);
  }

  /** Also while it is away: to find out whether it is back. One that answers this by an error is of no use. */
  async askAnyway<T>(call: (store: FleetStore) => Promise<T>): Promise<T | undefined> {
    return this.#call(call, false);
  }

  async #call<T>(call: (store: FleetStore) => Promise<T>, mayRefuse: boolean): Promise<T | undefined> {
    try {
      const came = await call(this.#store);
      this.#failures = 0;
      return came;
    } catch (thrown) {
      this.failures++;
      if (thrown instanceof Refusal) this.#warnOnce(thrown);
      if (mayRefuse && thrown instanceof Refusal) return undefined;
      if (++this.#failures >= mostFailures && !this.#isAway) {
        this.#isAway = true;
        this.#onAway();
      }
      return undefined;
    }
  }

  #warnOnce({ message }: Refusal): void {
    if (!this.#isWarned)
      console.warn(`Cista: Redis has answered a fleet by an error: what it concerns is asked for alone. ${message}`);
    this.#isWarned = true;
  }

  /** It answers, and has been told the invalidations that it missed. */
  return(): void {
    this.#isAway = false;
  }
}
