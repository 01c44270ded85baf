import type { Reading } from "../core/index.js";

/** Which members of its readings one component has looked at (rule N4). Only grows: a memoized child may have looked long ago. */
export class Lookout {
  readonly #seen: Set<PropertyKey> = new Set();
  readonly #handler: ProxyHandler<Reading<any>> = {
    get: (reading, member) => {
      this.#seen.add(member);
      return Reflect.get(reading, member);
    },
  };
  #reading: Reading<any> | undefined;
  #watched: Reading<any> | undefined;

  /** The reading, so that looking at a member is noted; the same object for the same reading. */
  over(reading: Reading<any>): Reading<any> {
    if (this.#reading !== reading || !this.#watched) {
      this.#reading = reading;
      this.#watched = new Proxy(reading, this.#handler);
    }
    return this.#watched;
  }

  /** Whether two readings are alike in all that was looked at. */
  alike(one: Reading<any>, other: Reading<any>): boolean {
    for (const member of this.#seen) {
      if (Reflect.get(one, member) !== Reflect.get(other, member)) return false;
    }
    return true;
  }
}
