/** The age of a tab's values, in moments that all tabs can compare. Rules B1, B5. */

import { Recent } from "./recent.js";

/** Of one key. */
export interface Known {
  /** When the request began that brought the held value; 0: before this tab had joined. */
  readonly at: number;
  /** The tab that has learned it; "" for a value that was here before. */
  readonly by: string;
  /** A value that is not newer than this is out of date. */
  readonly invalidatedAt: number;
  /** Of a stream: when it was opened. A value of one that was opened earlier, by a tab that had hung, is older. */
  readonly opened?: number | undefined;
}

const nothing: Known = { at: 0, by: "", invalidatedAt: 0 };

/** So much may another tab's clock be ahead of this one's, in milliseconds: a day. */
const mostAhead = 24 * 60 * 60 * 1000;

export class Moments {
  readonly #now: () => number;
  readonly #known = new Map<string, Known>();
  /** The last moments of keys under which nothing is held any more. Older news may still be on its way. */
  readonly #gone = new Recent<string, Known>();
  #last = 0;
  #ahead = 0;

  constructor(now: () => number) {
    this.#now = now;
  }

  /** Milliseconds by the clock that the tabs have in common, as exactly as a message is quick. */
  now(): number {
    return this.#now() + this.#ahead;
  }

  /** No tab is further ahead than that: a moment beyond it is no moment. */
  latest(): number {
    return this.#now() + mostAhead;
  }

  /**
   * Milliseconds, never the same twice in one tab, and later than all that was heard of. Where clocks differ, that of all tabs
   * goes on with the one that is furthest ahead.
   */
  next(): number {
    return this.#after(0);
  }

  /** The moment of a program's change: in the same millisecond as a request of another tab it counts as later, so that it is not lost. */
  nextChange(): number {
    return this.#after(0.5);
  }

  #after(part: number): number {
    // To the thousandth of a millisecond, which is as exact as a number can tell moments of these years.
    this.#last = Math.max(this.now() + part, Math.round((this.#last + 0.001) * 1000) / 1000);
    return this.#last;
  }

  /** @returns by how much this tab's clock turns out to be behind; 0 where that is little */
  heard(at: number): number {
    const behind = Math.floor(at - this.now());
    if (behind > 0) this.#ahead += behind;
    this.#last = Math.max(this.#last, at);
    return behind < 1000 ? 0 : behind;
  }

  /** A newcomer goes by the clock of those who are there. @returns by how much that is ahead, or behind; 0 where it is little */
  join(at: number): number {
    const further = Math.floor(at - this.now());
    if (Math.abs(further) < 1000) return 0;
    this.#ahead += further;
    this.#last = at;
    return further;
  }

  /** The values that one tab has learned count as so much later. */
  shift(by: string, length: number): void {
    for (const all of [this.#known, this.#gone]) {
      for (const [key, known] of [...all]) if (known.by === by) all.set(key, { ...known, at: known.at + length });
    }
  }

  of(key: string): Known {
    return this.#known.get(key) ?? this.#gone.get(key) ?? nothing;
  }

  knows(key: string): boolean {
    return this.#known.has(key);
  }

  /** Whether the value of that moment is held. */
  holds(key: string, { at, by }: { readonly at: number; readonly by: string }): boolean {
    const known = this.#known.get(key);
    return known?.at === at && known.by === by;
  }

  hold(key: string, at: number, by: string, opened?: number): void {
    this.#known.set(key, { at, by, invalidatedAt: this.of(key).invalidatedAt, opened });
    this.#gone.delete(key);
  }

  invalidate(key: string, at: number): void {
    const all = this.#known.has(key) ? this.#known : this.#gone;
    all.set(key, { ...this.of(key), invalidatedAt: at });
  }

  /** Nothing is held, and nothing of before comes back. */
  delete(key: string, at: number): void {
    this.#known.delete(key);
    this.#gone.set(key, { ...nothing, invalidatedAt: at });
  }

  /** Nothing is held any more, since it was unused. An older value is no news; the same may come again. */
  letGo(key: string): void {
    const known = this.#known.get(key);
    this.#known.delete(key);
    if (known) this.#gone.set(key, known);
  }

  /** Something is told that is not held here. News of before may still be on its way, and is none. */
  pass(key: string, at: number, by: string, opened?: number): void {
    if (!this.#known.has(key)) this.#gone.set(key, { at, by, invalidatedAt: this.of(key).invalidatedAt, opened });
  }

  /** Forgets when the value was learned. The moment of its invalidation stays. */
  unhold(key: string): void {
    if (this.#known.has(key)) this.#known.set(key, { ...nothing, invalidatedAt: this.of(key).invalidatedAt });
  }

  forget(key: string): void {
    this.#known.delete(key);
    this.#gone.delete(key);
  }

  clear(): void {
    this.#known.clear();
    this.#gone.clear();
  }

  /** Whether that is news here: newer than the held value, and than the last invalidation. */
  isNews({ key, at, by, opened }: { key: string; at: number; by: string; opened?: number | undefined }): boolean {
    const known = this.of(key);
    const isNewer = at > known.at || (at === known.at && (by > known.by || !this.knows(key)));
    return isNewer && at > known.invalidatedAt && (opened === undefined || opened >= (known.opened ?? 0));
  }

  /** Whether the held value was learned before that, or in the same moment elsewhere, and has not been invalidated since. */
  isOlder(key: string, at: number): boolean {
    const known = this.of(key);
    return known.at <= at && known.invalidatedAt < at;
  }

  /** The keys that one tab has told up to a moment. */
  keysBy(by: string, until: number): string[] {
    return [...this.#known].filter(([, known]) => known.by === by && known.at <= until).map(([key]) => key);
  }
}
