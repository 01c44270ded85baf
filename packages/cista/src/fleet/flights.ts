/** Requests that several callers wait for in one process: each ends when its last caller has left. Rule T4. */

export class Flight<T> {
  readonly #abort = new AbortController();
  readonly #result: Promise<T>;
  #waiting = 0;
  #isOver = false;

  constructor(run: (signal: AbortSignal) => Promise<T>) {
    this.#result = run(this.#abort.signal).finally(() => {
      this.#isOver = true;
    });
    this.#result.catch(() => {});
  }

  /** Calls back when it is over, however it ends. */
  onEnd(callback: () => void): void {
    this.#result.then(callback, callback);
  }

  /** Whether a caller can still wait for it: one that all have left has been aborted. */
  get isOpen(): boolean {
    return !this.#abort.signal.aborted;
  }

  /** @throws the signal's reason, as soon as that is aborted */
  join(signal: AbortSignal): Promise<T> {
    this.#waiting++;
    return new Promise<T>((resolve, reject) => {
      const leave = () => {
        if (--this.#waiting === 0 && !this.#isOver) this.#abort.abort(signal.reason);
        reject(signal.reason);
      };
      if (signal.aborted) return leave();
      signal.addEventListener("abort", leave, { once: true });
      const end = () => signal.removeEventListener("abort", leave);
      this.#result.then(resolve, reject).finally(end);
    });
  }
}
