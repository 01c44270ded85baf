import type { Reading } from "../core/index.js";
import type { AnyReading } from "../core/internal.js";
import type { Asked } from "./asked.js";
import { Follower } from "./follower.js";

export type Member = keyof AnyReading;

const all: Record<Member, true> = {
  key: true,
  state: true,
  value: true,
  provisional: true,
  fresh: true,
  storedAt: true,
  failure: true,
  pendingWrites: true,
  request: true,
  revalidate: true,
};
export const members: readonly Member[] = Object.keys(all) as Member[];

/** One signal of a framework's own: `track` notes that it is looked at, `trigger` tells those who did. */
export interface Signal {
  track(): void;
  trigger(): void;
}

/**
 * A reading that is always the newest, for frameworks that see what is looked at: each member is a signal of its own,
 * made when somebody first looks at it (rule N4). Members are getters of the prototype: what merely goes through an
 * object's own members does not count as having looked.
 */
export class LiveReading implements Record<Member, unknown> {
  readonly #look: (member: Member) => AnyReading;

  constructor(look: (member: Member) => AnyReading) {
    this.#look = look;
  }

  get key(): unknown {
    return this.#look("key").key;
  }

  get state(): unknown {
    return this.#look("state").state;
  }

  get value(): unknown {
    return this.#look("value").value;
  }

  get provisional(): unknown {
    return this.#look("provisional").provisional;
  }

  get fresh(): unknown {
    return this.#look("fresh").fresh;
  }

  get storedAt(): unknown {
    return this.#look("storedAt").storedAt;
  }

  get failure(): unknown {
    return this.#look("failure").failure;
  }

  get pendingWrites(): unknown {
    return this.#look("pendingWrites").pendingWrites;
  }

  get request(): unknown {
    return this.#look("request").request;
  }

  get revalidate(): unknown {
    return this.#look("revalidate").revalidate;
  }
}

/** A live reading over a follower, out of a framework's own signals. */
export class Live {
  readonly follower: Follower = new Follower(() => this.changed());
  readonly #signal: () => Signal;
  readonly #together: (change: () => void) => void;
  readonly #signals = new Map<Member, Signal>();
  /** What all who look have been told of, changed only together with telling them; and of which entry. */
  #told: Reading<any> | undefined;
  #toldOf: Asked | undefined;

  /**
   * @param signal makes one
   * @param together triggers several as one change, where the framework runs those who look at once
   */
  constructor(signal: () => Signal, together: (change: () => void) => void = (change) => change()) {
    this.follower.isHydrating = true;
    this.#signal = signal;
    this.#together = together;
  }

  /** As `Asking.ask`. Who looks must be told of another entry by the framework: keep what this returns in a computed value, and look with it. */
  ask(...question: Parameters<Follower["ask"]>): Asked {
    return this.follower.ask(...question);
  }

  /** @param asked what whoever looks has asked for: in a framework's transition, the one before may still be on the page */
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

  /** Attaches to what is asked for now. What changed since somebody looked, unattached, is told; of another entry the framework tells. */
  attach(): void {
    const { asked } = this.follower;
    this.follower.attach();
    if (this.#toldOf !== asked) this.#told = asked && this.follower.get();
    this.#toldOf = asked;
    this.changed();
  }

  /** The component is on the page, word for word as it came: from now on it shows what is newest. */
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
