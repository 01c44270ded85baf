/** The idle entries in the order of their last use. Rule F8. */
import type { Entry } from "./entry.js";

/** The idle entries, least recently used first: a chain through the entries themselves, so that no move takes space. */
export class IdleList {
  oldest: Entry | undefined = undefined;
  size = 0;
  #newest: Entry | undefined = undefined;

  /** Puts an entry last, wherever it was before. */
  add(entry: Entry): void {
    this.remove(entry);
    entry.older = this.#newest;
    if (this.#newest) this.#newest.newer = entry;
    else this.oldest = entry;
    this.#newest = entry;
    this.size++;
  }

  has(entry: Entry): boolean {
    return entry.older !== undefined || entry.newer !== undefined || this.oldest === entry;
  }

  /** Harmless for one that is not in the list. */
  remove(entry: Entry): void {
    if (!this.has(entry)) return;
    if (entry.older) entry.older.newer = entry.newer;
    else this.oldest = entry.newer;
    if (entry.newer) entry.newer.older = entry.older;
    else this.#newest = entry.older;
    entry.older = undefined;
    entry.newer = undefined;
    this.size--;
  }

  clear(): void {
    this.oldest = this.#newest = undefined;
    this.size = 0;
  }
}
