import type { AnyReading } from "../core/doors/readings.js";
import type { Reading } from "../core/index.js";
import type { Asked } from "./asked.js";
import { Follower } from "./follower.js";
import { look, type Member, readingOf } from "./members.js";

/** One signal of a framework's own: `track` notes that it is looked at, `trigger` tells those who did. */
export interface Signal {
  track(): void;
  trigger(): void;
}

/**
 * A reading that is always the newest, for frameworks that see which values are looked at: each member is a signal of its own,
 * made when it is first looked at (rule N4).
 * @param lookAt notes that the member is looked at
 */
export function makeLiveReading(lookAt: (member: Member) => AnyReading): Reading<any> {
  return readingOf({ [look]: lookAt });
}

/** A live reading over a follower, out of a framework's own signals. */
export class Live {
  readonly follower: Follower = new Follower(() => this.changed());
  readonly #signal: () => Signal;
  readonly #together: (change: () => void) => void;
  readonly #signals = new Map<Member, Signal>();
  /** The reading that all readers have been told of, changed only together with telling them; and its entry. */
  #told: Reading<any> | undefined;
  #toldOf: Asked | undefined;
  #interval: { readonly said: Asked["revalidateEvery"] } | undefined;

  /**
   * @param signal makes one
   * @param together triggers several as one change, where the framework runs those who look at once
   */
  constructor(signal: () => Signal, together: (change: () => void) => void = (change) => change()) {
    this.follower.isHydrating = true;
    this.#signal = signal;
    this.#together = together;
  }

  /** As `Asking.ask`. The framework must tell readers of another entry: keep the result in a computed value, and look with it. */
  ask(...[cache, source, params, options, known]: Parameters<Follower["ask"]>): Asked {
    const now = this.#interval ? { ...options, revalidateEvery: this.#interval.said } : options;
    return this.follower.ask(cache, source, params, now, known);
  }

  /** Another interval from now on: see `intervalNow`. */
  changeInterval(said: Asked["revalidateEvery"]): void {
    this.#interval = { said };
    const { asked } = this.follower;
    if (!asked) return;
    asked.revalidateEvery = said;
    asked.applyInterval();
  }

  /** @param asked the entry that the reader has asked for: in a framework's transition, the former one may still be on the page */
  look(member: Member, asked: Asked): AnyReading {
    let signal = this.#signals.get(member);
    if (!signal) {
      signal = this.#signal();
      this.#signals.set(member, signal);
    }
    signal.track();
    const reading = this.follower.get(asked);
    if (!this.#toldOf) {
      this.#told = reading;
      this.#toldOf = asked;
    }
    return reading as AnyReading;
  }

  /** Attaches to the present entry. A change since an unattached look is told; of another entry the framework tells. */
  attach(): void {
    const { asked } = this.follower;
    this.follower.attach();
    if (this.#toldOf !== asked) this.#told = asked && this.follower.get();
    this.#toldOf = asked;
    this.changed();
  }

  /** The component is on the page, word for word as it came: from now on it shows the newest reading. */
  hydrated(): void {
    if (!this.follower.isHydrating) return;
    this.follower.isHydrating = false;
    this.changed();
  }

  leave(): void {
    this.follower.leave();
  }

  /** Tells those who looked at a member that is another one now. */
  changed(): void {
    if (!this.follower.asked) return;
    const before = this.#told as AnyReading | undefined;
    const next = this.follower.get() as AnyReading;
    if (before === next) return;
    this.#told = next as Reading<any>;
    this.#together(() => {
      for (const [member, signal] of this.#signals) if (before?.[member] !== next[member]) signal.trigger();
    });
  }
}
