/** The listeners of one entry: added and removed in constant time, called in order. Rule N1. */
import { report } from "./guarded.js";

type Listener = () => void;

/**
 * The listeners of one entry, called in the order in which they subscribed. Adding and removing are O(1): a removed one
 * leaves a hole, and the holes are closed when there is one listener left for three of them.
 */
export class Listeners {
  /** Plain functions side by side: the loop that calls them touches nothing else. */
  #calls: (Listener | undefined)[] = [];
  /** When each subscribed; the same indices, holes too. Only goes up. */
  #orders: number[] = [];
  #holes = 0;
  /** Loops under way: no listener is moved meanwhile. */
  #looping = 0;
  /** Goes up with each round of calls: a round that finds a later one has nothing left to tell. */
  #round = 0;

  /**
   * @param order goes up with each subscription to anything in the cache, and tells this one from all others
   * @returns where it stands, for now: holes may be closed, and it then stands further to the front
   */
  add(listener: Listener, order: number): number {
    if (this.#calls.length === 0) {
      this.#orders = [order]; // an array that grows takes room for seventeen at once; most entries have one listener
      this.#calls = [listener];
      return 0;
    }
    this.#orders.push(order);
    return this.#calls.push(listener) - 1;
  }

  /** @param position where it stood when it was added. False when it had been removed before. */
  remove(position: number, order: number): boolean {
    const at = this.#orders[position] === order ? position : this.#find(order);
    if (this.#calls[at] === undefined) return false;
    this.#calls[at] = undefined;
    this.#holes++;
    if (this.#holes > 32 && this.#holes * 4 > this.#calls.length * 3 && this.#looping === 0) this.#close();
    return true;
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

  /** Calls the listeners of several entries, each once, in the order of subscription. */
  static callAllOf(several: readonly Listeners[]): void {
    const calls = several.flatMap((listeners) => [...listeners.roundOfCalls()]);
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

  /** The calls of one round. Public, since a write of another copy of the library calls the listeners of this one. */
  *roundOfCalls(): Generator<{ order: number; call: Listener }> {
    const round = ++this.#round;
    for (const [at, listener] of this.#calls.entries()) {
      const order = this.#orders[at] as number;
      if (!listener) continue;
      const call = () => {
        if (this.#round === round && this.#calls[this.#find(order)]) listener();
      };
      yield { order, call };
    }
  }

  /** By halving: orders only go up. -1 for one that is no longer there. */
  #find(order: number): number {
    const orders = this.#orders;
    let low = 0;
    let high = orders.length;
    while (low < high) {
      const middle = (low + high) >>> 1;
      if ((orders[middle] as number) < order) low = middle + 1;
      else high = middle;
    }
    return orders[low] === order ? low : -1;
  }

  #close(): void {
    let next = 0;
    for (let i = 0; i < this.#calls.length; i++) {
      if (this.#calls[i] === undefined) continue;
      this.#calls[next] = this.#calls[i];
      this.#orders[next++] = this.#orders[i] as number;
    }
    this.#calls.length = next;
    this.#orders.length = next;
    this.#holes = 0;
  }
}
