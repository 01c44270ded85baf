/** One tab's turn at one lock. Rules B2, B8. */
import type { TabLocks } from "./platform.js";

/**
 * A request that is no longer wanted stays in the lock's queue and passes the lock on at once: Chromium counts a request that was given
 * up as a lock that is held for as long as the page lives, and never freezes that.
 */
export class Turn {
  has = false;
  readonly #locks: TabLocks;
  readonly #name: string;
  /** Called when it is this one's turn, and when it is so no longer though this tab has not left. */
  readonly #changed: () => void;
  readonly #ended: (turn: Turn) => void;
  #left = false;
  #release: (() => void) | undefined;
  #queued: AbortController | undefined;

  constructor(locks: TabLocks, name: string, changed: () => void, ended: (turn: Turn) => void) {
    this.#locks = locks;
    this.#name = name;
    this.#changed = changed;
    this.#ended = ended;
  }

  get isOver(): boolean {
    return this.#left;
  }

  wait(): void {
    if (this.has || this.#left || this.#queued) return;
    const queued = new AbortController();
    this.#queued = queued;
    this.#request({ signal: queued.signal }, () => queued === this.#queued);
  }

  /** Takes it from a tab that hangs. */
  steal(): Promise<void> {
    return this.#request({ steal: true }, () => true);
  }

  #request(how: { signal?: AbortSignal; steal?: boolean }, isWanted: () => boolean): Promise<void> {
    return new Promise((answered) => {
      const hold = () => {
        answered();
        if (this.#left || this.has || !isWanted()) return undefined;
        this.has = true;
        this.#queued = undefined;
        const held = new Promise<void>((release) => {
          this.#release = release;
        });
        this.#changed();
        return held;
      };
      this.#locks.request(this.#name, how, hold).then(
        () => answered(),
        () => {
          answered();
          if (this.has && !this.#left && this.#release) this.lose(); // taken from us, who had hung
        },
      );
    });
  }

  /** Lets go of it, or of the place in its queue. */
  leave(): void {
    if (this.#left) return;
    this.#left = true;
    this.has = false;
    this.#release?.();
    this.#ended(this);
  }

  /** Leaves it to another, though it is still wanted. */
  lose(): void {
    this.leave();
    this.#changed();
  }

  /** The page stands still: it may not keep others waiting meanwhile, nor be given the lock. */
  freeze(): void {
    if (this.has) this.lose();
    else {
      this.#queued?.abort();
      this.#queued = undefined;
    }
  }
}
