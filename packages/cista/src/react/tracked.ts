import type { Reading } from "../core/index.js";

// Each member is spelled out below, with a bit of its own: a loop over their names takes a third more time to render.

/** Which members of its readings one component has looked at (rule N4). Only grows: a memoized child may have looked long ago. */
export class Lookout {
  /** A bit for each member. */
  seen = 0;
  #tracked: Tracked | undefined;

  /** The reading, so that looking at a member is noted; the same object for the same reading. */
  over(reading: Reading<any>): Reading<any> {
    if (!this.#tracked?.is(reading)) this.#tracked = new Tracked(reading, this);
    return this.#tracked as unknown as Reading<any>;
  }

  /** Whether two readings are alike in all that was looked at. */
  alike(one: Reading<any>, other: Reading<any>): boolean {
    const { seen } = this;
    if (one === other) return true;
    return !(
      (seen & 1 && one.key !== other.key) ||
      (seen & 2 && one.state !== other.state) ||
      (seen & 4 && one.value !== other.value) ||
      (seen & 8 && one.provisional !== other.provisional) ||
      (seen & 16 && one.fresh !== other.fresh) ||
      (seen & 32 && one.storedAt !== other.storedAt) ||
      (seen & 64 && one.failure !== other.failure) ||
      (seen & 128 && one.pendingWrites !== other.pendingWrites) ||
      (seen & 256 && one.request !== other.request) ||
      (seen & 512 && one.revalidate !== other.revalidate)
    );
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

  get key(): unknown {
    return this.#look(1).key;
  }

  get state(): unknown {
    return this.#look(2).state;
  }

  get value(): unknown {
    return this.#look(4).value;
  }

  get provisional(): unknown {
    return this.#look(8).provisional;
  }

  get fresh(): unknown {
    return this.#look(16).fresh;
  }

  get storedAt(): unknown {
    return this.#look(32).storedAt;
  }

  get failure(): unknown {
    return this.#look(64).failure;
  }

  get pendingWrites(): unknown {
    return this.#look(128).pendingWrites;
  }

  get request(): unknown {
    return this.#look(256).request;
  }

  get revalidate(): unknown {
    return this.#look(512).revalidate;
  }

  #look(bit: number): Reading<any> {
    this.#lookout.seen |= bit;
    return this.#reading;
  }
}
