import type { Reading } from "../core/index.js";
import type { AnyReading } from "../core/reading.js";

type Member = keyof AnyReading;

const members: readonly Member[] = [
  "key",
  "state",
  "value",
  "provisional",
  "fresh",
  "storedAt",
  "failure",
  "pendingWrites",
  "request",
  "revalidate",
];

/** Which members of its readings one component has looked at (rule N4). Only grows: a memoized child may have looked long ago. */
export class Lookout {
  /** A bit for each member, in the order above. */
  seen = 0;
  #tracked: Tracked | undefined;

  /** The reading, so that looking at a member is noted; the same object for the same reading. */
  over(reading: Reading<any>): Reading<any> {
    if (!this.#tracked?.is(reading)) this.#tracked = new Tracked(reading, this);
    return this.#tracked as unknown as Reading<any>;
  }

  /** Whether two readings are alike in all that was looked at. */
  alike(one: Reading<any>, other: Reading<any>): boolean {
    if (one === other) return true;
    for (let bit = 0, left = this.seen; left > 0; bit++, left >>= 1) {
      const member = members[bit] as Member;
      if (left & 1 && one[member] !== other[member]) return false;
    }
    return true;
  }
}

/**
 * A reading whose members are getters of its prototype: what merely goes through an object's own members, as React's
 * development tools do with props, does not count as having looked at them.
 */
class Tracked {
  readonly #reading: Reading<any>;
  readonly #lookout: Lookout;

  constructor(reading: Reading<any>, lookout: Lookout) {
    this.#reading = reading;
    this.#lookout = lookout;
  }

  is(reading: Reading<any>): boolean {
    return this.#reading === reading;
  }

  /** For logs: all of it, without looking. */
  toJSON(): Reading<any> {
    return this.#reading;
  }

  static {
    for (const [bit, member] of members.entries()) {
      Object.defineProperty(Tracked.prototype, member, {
        get(this: Tracked) {
          this.#lookout.seen |= 1 << bit;
          return this.#reading[member];
        },
      });
    }
  }
}
