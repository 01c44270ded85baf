import { report } from "./journal.js";

type Listener = () => void;

/** One subscription. */
export interface Seat {
  /** In the lists below; -1 once removed. */
  index: number;
  /** Goes up with each subscription to anything in the cache. */
  readonly order: number;
}

/**
 * The listeners of one entry, called in the order in which they subscribed. Adding and removing are O(1): a removed one
 * leaves a hole, and the holes are closed when there is one listener left for three of them.
 */
export class Listeners {
  /** Plain functions side by side: the loop that calls them touches nothing else. */
  #calls: (Listener | undefined)[] = [];
  /** Where each stands; the same indices. Those of holes have an index of -1. */
  #seats: Seat[] = [];
  #holes = 0;
  /** Loops under way: seats do not move meanwhile. */
  #looping = 0;
  /** Goes up with each round of calls: a round that finds a later one has nothing left to tell. */
  #round = 0;

  get size(): number {
    return this.#calls.length - this.#holes;
  }

  add(listener: Listener, order: number): Seat {
    const seat: Seat = { index: this.#calls.length, order };
    this.#calls.push(listener);
    this.#seats.push(seat);
    return seat;
  }

  remove(seat: Seat): void {
    this.#calls[seat.index] = undefined;
    seat.index = -1;
    this.#holes++;
    if (this.#holes > 32 && this.#holes * 4 > this.#calls.length * 3 && this.#looping === 0) this.#close();
  }

  /**
   * Calls each once. One that is removed meanwhile is not called, one added meanwhile neither; one that throws does not
   * stop the others. Where a listener changes the entry again, the inner round tells everybody and the outer one ends.
   */
  callAll(): void {
    const calls = this.#calls;
    const end = calls.length;
    const round = ++this.#round;
    let thrown: unknown[] | undefined;
    this.#looping++;
    for (let i = 0; i < end; ) {
      try {
        while (i < end && this.#round === round) {
          const call = calls[i++];
          if (call !== undefined) call();
        }
        break;
      } catch (error) {
        thrown ??= [];
        thrown.push(error);
      }
    }
    this.#looping--;
    thrown?.forEach(report);
  }

  /** The same over the listeners of several entries, in the order of subscription. */
  static callAllOf(several: readonly Listeners[]): void {
    const calls = several.flatMap((listeners) => [...listeners.#roundOfCalls()]);
    calls.sort((one, other) => one.order - other.order);
    const thrown: unknown[] = [];
    for (const { call } of calls) {
      try {
        call();
      } catch (error) {
        thrown.push(error);
      }
    }
    thrown.forEach(report);
  }

  *#roundOfCalls(): Generator<{ order: number; call: Listener }> {
    const round = ++this.#round;
    for (const seat of this.#seats) {
      if (seat.index < 0) continue;
      const call = () => {
        if (seat.index >= 0 && this.#round === round) this.#calls[seat.index]?.();
      };
      yield { order: seat.order, call };
    }
  }

  #close(): void {
    let next = 0;
    for (let i = 0; i < this.#calls.length; i++) {
      const seat = this.#seats[i] as Seat;
      if (seat.index < 0) continue;
      seat.index = next;
      this.#calls[next] = this.#calls[i];
      this.#seats[next++] = seat;
    }
    this.#calls.length = next;
    this.#seats.length = next;
    this.#holes = 0;
  }
}
