/** One timer for the moments of all entries. It notices a clock that jumps forward. Rules F3, F8, F10, N5. */
import type { CacheClock } from "./cache-clock.js";
import { asSmallInteger } from "./small-integer.js";

/** Stands for no moment. (Not Infinity: small integers take no space of their own.) */
export const never: number = -(2 ** 31);

/** Something with a next moment that matters. */
export interface Scheduled {
  /** When something is next to be done about it, by `CacheClock.elapsed`, or `never`. Write it through `Schedule.set`. */
  due: number;
  /** The moment that it is filed under, never later than `due`; and its place in the heap, -1: it is in none. */
  filedUnder: number;
  place: number;
}

/** The longest delay that platforms' timers take (2^31 - 1 ms, about 24 days), halved so that sums stay below it. */
const farthest = 2 ** 30;

/** The callbacks of a schedule. */
export interface ScheduleListener<T> {
  /** @param items all that is due, each taken out of the schedule */
  onDue(items: T[]): void;
  /** A sleeping machine runs no timers, while its clock goes on: so long, in milliseconds, the timer may be trusted now. */
  longestDelay(): number;
}

/**
 * One timer for all moments of all items: a heap by moments. An item that is put off only has its moment written
 * down; it moves when the earlier moment comes. So one that is put off again and again costs one written field each time.
 */
export class Schedule<T extends Scheduled> {
  readonly #clock: CacheClock;
  readonly #listener: ScheduleListener<T>;
  readonly #heap: T[] = [];
  #timer: unknown;
  /** When it rings. */
  #rings = Number.POSITIVE_INFINITY;

  constructor(clock: CacheClock, listener: ScheduleListener<T>) {
    this.#clock = clock;
    this.#listener = listener;
  }

  /**
   * Sets an item's moment, Infinity for never. A later moment is only noted.
   * @param now the clock's time, which the caller has read
   */
  set(item: T, due: number, now: number): void {
    if (now > this.#rings) this.#setTimer(now); // the clock has jumped
    item.due = due === Number.POSITIVE_INFINITY ? never : asSmallInteger(due);
    if (item.due === never) return;
    if (item.place < 0) this.#add(item);
    else if (due < item.filedUnder) {
      item.filedUnder = item.due;
      this.#rise(item);
    }
    if (this.#heap[0] === item) this.#setTimer(now);
  }

  remove(item: T): void {
    item.due = never;
    if (item.place >= 0) this.#take(item);
  }

  /** Looks at the clock: it may have jumped, or the timer may be set for later than it may be trusted now. */
  check(): void {
    this.#setTimer(this.#clock.elapsed());
  }

  stop(): void {
    this.#heap.length = 0;
    this.#clearTimer();
  }

  // ── The timer ──────────────────────────────────────────────────────────────

  /** Sets the timer for the earliest moment, unless it is set already. Where the clock has jumped it rings at once. */
  #setTimer(now: number): void {
    const [first] = this.#heap;
    if (!first) return;
    const isLate = this.#rings < now; // the clock was put forward, or the machine has slept
    const next = isLate ? now : Math.max(now, first.filedUnder);
    const rings = now + Math.min(next - now, farthest, this.#listener.longestDelay());
    if (rings >= this.#rings && !isLate) return;
    this.#clearTimer();
    this.#rings = rings;
    this.#timer = this.#clock.setTimer(() => this.#onTimer(rings), rings - now);
  }

  #clearTimer(): void {
    if (this.#timer !== undefined) this.#clock.clearTimer(this.#timer);
    this.#timer = undefined;
    this.#rings = Number.POSITIVE_INFINITY;
  }

  #onTimer(rung: number): void {
    this.#clock.reach(rung);
    this.#timer = undefined;
    this.#rings = Number.POSITIVE_INFINITY;
    const now = this.#clock.elapsed();
    const due = this.#takeDue(now);
    this.#setTimer(now);
    if (due.length > 0) this.#listener.onDue(due);
  }

  #takeDue(now: number): T[] {
    const due: T[] = [];
    for (let first = this.#heap[0]; first && first.filedUnder <= now; first = this.#heap[0]) {
      this.#take(first);
      if (first.due === never) continue;
      if (first.due <= now) due.push(first);
      else this.#add(first); // it was put off
    }
    return due;
  }

  // ── The heap: an item's moment is never later than those of the four items below it ──

  #add(item: T): void {
    item.filedUnder = item.due;
    item.place = this.#heap.push(item) - 1;
    this.#rise(item);
  }

  #take(item: T): void {
    const { place } = item;
    item.place = -1;
    const last = this.#heap.pop() as T;
    if (last === item) return;
    this.#put(last, place);
    this.#rise(last);
    this.#sink(last);
  }

  #put(item: T, place: number): void {
    this.#heap[place] = item;
    item.place = place;
  }

  #rise(item: T): void {
    let { place } = item;
    while (place > 0) {
      const above = this.#heap[(place - 1) >> 2] as T;
      if (above.filedUnder <= item.filedUnder) break;
      this.#put(above, place);
      place = (place - 1) >> 2;
    }
    if (place !== item.place) this.#put(item, place);
  }

  #sink(item: T): void {
    let { place } = item;
    for (let child = this.#firstBelow(place); child; child = this.#firstBelow(place)) {
      if (item.filedUnder <= child.filedUnder) break;
      const at = child.place;
      this.#put(child, place);
      place = at;
    }
    this.#put(item, place);
  }

  /** Of the items below a place, the one whose moment is the first. */
  #firstBelow(place: number): T | undefined {
    const from = 4 * place + 1;
    let first = this.#heap[from];
    for (let at = from + 1; at < from + 4; at++) {
      const other = this.#heap[at];
      if (first && other && other.filedUnder < first.filedUnder) first = other;
    }
    return first;
  }
}
