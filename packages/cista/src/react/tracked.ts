import type { Reading } from "../core/index.js";
import type { AnyReading } from "../core/reading.js";

type Member = keyof AnyReading;

/** Which members of its readings one component has looked at (rule N4). Only grows: a memoized child may have looked long ago. */
export class Lookout {
  readonly #seen: Set<Member> = new Set();
  #tracked: Tracked | undefined;

  /** The reading, so that looking at a member is noted; the same object for the same reading. */
  over(reading: Reading<any>): Reading<any> {
    if (this.#tracked?.reading !== reading) this.#tracked = new Tracked(reading, this.#seen);
    return this.#tracked as unknown as Reading<any>;
  }

  /** Whether two readings are alike in all that was looked at. */
  alike(one: Reading<any>, other: Reading<any>): boolean {
    for (const member of this.#seen) if (one[member] !== other[member]) return false;
    return true;
  }
}

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

/**
 * A reading whose members are getters of its prototype: what merely goes through an object's own members, as React's
 * development tools do with props, does not count as having looked at them.
 */
class Tracked {
  declare readonly reading: Reading<any>;
  declare readonly seen: Set<Member>;

  constructor(reading: Reading<any>, seen: Set<Member>) {
    Object.defineProperty(this, "reading", { value: reading });
    Object.defineProperty(this, "seen", { value: seen });
  }

  /** For logs: all of it, without looking. */
  toJSON(): Reading<any> {
    return this.reading;
  }
}

for (const member of members) {
  Object.defineProperty(Tracked.prototype, member, {
    get(this: Tracked) {
      this.seen.add(member);
      return this.reading[member];
    },
  });
}
