/** Those who wait for one answer. */
import type { Failure } from "../api/failure.js";

/** How a request ended, for those who waited for its value. */
export type Outcome =
  | { readonly value: unknown; readonly failure?: undefined }
  | {
      readonly failure: Failure;
      /** A value that may be used in its place (RFC 5861 §4). */
      readonly instead?: { readonly value: unknown } | undefined;
    };

/** Those who wait for one answer, behind two promises that they share, however many they are. */
export class Waiters {
  /** Whether one of them waits without a signal, and so cannot leave. */
  patient = false;
  /** How many wait, without those that left. */
  count = 0;
  #lenient: Promised | undefined;
  #strict: Promised | undefined;
  #outcome: Outcome | undefined;
  #told: (() => void)[] | undefined;

  /** Calls back when the outcome is there, before anything else can happen to the entry: at once where it is. */
  onSettled(callback: () => void): void {
    if (this.#outcome) {
      callback();
      return;
    }
    this.#told ??= [];
    this.#told.push(callback);
  }

  /** The value, or one that may be used in its place if the request fails. */
  get value(): Promise<unknown> {
    if (!this.#lenient) {
      this.#lenient = new Promised();
      this.#settlePromises(); // a load that puts its own entry's value ends the wait before anybody has looked at it
    }
    return this.#lenient.promise;
  }

  /** The value as the source gives it now, or the failure. */
  get confirmed(): Promise<unknown> {
    if (!this.#strict) {
      this.#strict = new Promised();
      this.#settlePromises();
    }
    return this.#strict.promise;
  }

  settle(outcome: Outcome): void {
    this.#outcome = outcome;
    for (const tell of this.#told ?? []) tell();
    this.#settlePromises();
  }

  #settlePromises(): void {
    const outcome = this.#outcome;
    if (!outcome) return;
    if (!outcome.failure) {
      this.#lenient?.resolve(outcome.value);
      this.#strict?.resolve(outcome.value);
      return;
    }
    if (outcome.instead) this.#lenient?.resolve(outcome.instead.value);
    else this.#lenient?.reject(outcome.failure);
    this.#strict?.reject(outcome.failure);
  }
}

class Promised {
  resolve!: (value: unknown) => void;
  reject!: (failure: Failure) => void;
  readonly promise: Promise<unknown> = new Promise((resolve, reject) => {
    this.resolve = resolve;
    this.reject = reject;
  });
}
