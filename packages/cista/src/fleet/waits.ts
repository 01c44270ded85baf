/** Waiting for another process: for its message, or for the time to look again. */

type After = (delay: number, callback: () => void) => () => void;

/** One wait. Messages count from the moment at which it was made, so that none falls between looking and waiting. */
export class Wait {
  readonly #end: (wait: Wait) => void;
  #isTold = false;
  #wake = (): void => {};

  constructor(end: (wait: Wait) => void) {
    this.#end = end;
  }

  tell(): void {
    this.#isTold = true;
    this.#wake();
  }

  /** @param most milliseconds */
  until(most: number, signal: AbortSignal, after: After): Promise<void> {
    if (this.#isTold || signal.aborted) return Promise.resolve();
    return new Promise((resolve) => {
      this.#wake = () => {
        endTimer();
        signal.removeEventListener("abort", this.#wake);
        resolve();
      };
      const endTimer = after(Math.max(1, most), this.#wake);
      signal.addEventListener("abort", this.#wake, { once: true });
    });
  }

  end(): void {
    this.#end(this);
  }
}

/** All who wait in one process, by the id of an entry. */
export class Waits {
  readonly #all = new Map<string, Set<Wait>>();

  begin(id: string): Wait {
    const waits = this.#all.get(id) ?? new Set();
    this.#all.set(id, waits);
    const wait = new Wait((ended) => {
      waits.delete(ended);
      if (waits.size === 0 && this.#all.get(id) === waits) this.#all.delete(id);
    });
    waits.add(wait);
    return wait;
  }

  /** Something has been told of an id, or, without one, of all. */
  tell(id?: string): void {
    const told = id === undefined ? [...this.#all.values()] : [this.#all.get(id) ?? []];
    for (const waits of told) for (const wait of [...waits]) wait.tell();
  }
}
