import type { Entry } from "./entry.js";

/** The entries that nobody watches and nothing is under way for, least recently used first. */
export class Idle {
  readonly #capacity: number;
  #oldest: Entry | undefined;
  #newest: Entry | undefined;
  #size = 0;

  constructor(capacity: number) {
    this.#capacity = capacity;
  }

  /** Puts an entry last in line. Returns the one that has to go for it, if any: with a capacity of 0 the same one. */
  add(entry: Entry): Entry | undefined {
    this.remove(entry);
    entry.older = this.#newest;
    if (this.#newest) this.#newest.newer = entry;
    else this.#oldest = entry;
    this.#newest = entry;
    this.#size++;
    return this.#size > this.#capacity ? this.#oldest : undefined;
  }

  /** Harmless for one that is not idle. */
  remove(entry: Entry): void {
    if (!entry.older && !entry.newer && this.#oldest !== entry) return;
    if (entry.older) entry.older.newer = entry.newer;
    else this.#oldest = entry.newer;
    if (entry.newer) entry.newer.older = entry.older;
    else this.#newest = entry.older;
    entry.older = undefined;
    entry.newer = undefined;
    this.#size--;
  }
}
