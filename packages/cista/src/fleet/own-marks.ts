/** Entries that turned out to be each user's own: for a while no caller waits for another's answer. Rule T2. */

/** Milliseconds. */
export const ownFor = 10_000;
/** So many ids are remembered as such. */
const mostOwn = 10_000;

export class OwnMarks {
  readonly #now: () => number;
  /** Until when, by id. */
  readonly #until = new Map<string, number>();

  constructor(now: () => number) {
    this.#now = now;
  }

  has(id: string): boolean {
    const until = this.#until.get(id);
    if (until === undefined) return false;
    if (this.#now() < until) return true;
    this.#until.delete(id);
    return false;
  }

  add(id: string): void {
    this.#until.delete(id);
    this.#until.set(id, this.#now() + ownFor);
    for (const [oldest] of this.#until) if (this.#until.size > mostOwn) this.#until.delete(oldest);
  }

  delete(id: string): void {
    this.#until.delete(id);
  }
}
