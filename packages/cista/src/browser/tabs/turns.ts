/** The locks that one tab has, or waits for: one for each key that is asked for. Rules B2, B8. */
import type { TabLocks } from "./platform.js";
import { Turn } from "./turn.js";

/** How long a lock is held after its answer was told: the message is on its way, on a busy machine too. Milliseconds. */
const linger = 500;

export class Turns {
  readonly #nameOf: (key: string) => string;
  readonly #after: (delay: number, callback: () => void) => () => void;
  /** Called when a key's turn has come, or was taken. */
  readonly #changed: (key: string) => void;
  readonly #held = new Map<string, Turn>();
  /** Those that have come, and those that are waited for. */
  readonly #all = new Set<Turn>();
  /** Keys whose answer has been told: with the function that ends the time for which their lock is held longer. */
  readonly #lingering = new Map<string, () => void>();
  readonly #onLost = new WeakMap<Turn, () => void>();

  constructor(
    nameOf: (key: string) => string,
    after: (delay: number, callback: () => void) => () => void,
    changed: (key: string) => void,
  ) {
    this.#nameOf = nameOf;
    this.#after = after;
    this.#changed = changed;
  }

  /**
   * Takes a place at a key's lock.
   * @param isOver whether the load before needs its turn no longer: this one goes on with it then
   */
  take(key: string, locks: TabLocks, isOver: boolean): Turn {
    const held = this.#held.get(key);
    if (held?.has && (isOver || this.#lingering.has(key))) {
      this.#endLingering(key);
      return held;
    }
    const changed = () => {
      if (turn.has) this.#held.set(key, turn);
      this.#changed(key);
      if (turn.isOver) this.#onLost.get(turn)?.();
    };
    const ended = () => {
      this.#all.delete(turn);
      if (this.#held.get(key) !== turn) return;
      this.#held.delete(key);
      this.#endLingering(key);
    };
    const turn = new Turn(locks, this.#nameOf(key), changed, ended);
    this.#all.add(turn);
    turn.wait();
    return turn;
  }

  has(key: string): boolean {
    return this.#held.has(key);
  }

  isLingering(key: string): boolean {
    return this.#lingering.has(key);
  }

  /** The request is over and has been told of: its lock is let go, once the message has arrived. */
  finish(key: string): void {
    const turn = this.#held.get(key);
    if (!turn || this.#lingering.has(key)) return;
    this.#lingering.set(
      key,
      this.#after(linger, () => turn.leave()),
    );
  }

  /** Another tab is to have it: a load that is still open here is told that its lock was lost. */
  pass(key: string): void {
    this.#held.get(key)?.lose();
  }

  /** The request is over, and there is nothing to tell. */
  release(key: string): void {
    this.#held.get(key)?.leave();
  }

  #endLingering(key: string): void {
    this.#lingering.get(key)?.();
    this.#lingering.delete(key);
  }

  /** Calls back where the turn is taken away. */
  whenLost(turn: Turn, callback: () => void): void {
    if (turn.isOver) callback();
    else this.#onLost.set(turn, callback);
  }

  freeze(): void {
    for (const turn of [...this.#all]) turn.freeze();
  }

  thaw(): void {
    for (const turn of this.#all) turn.wait();
  }

  close(): void {
    for (const turn of [...this.#all]) turn.leave();
  }
}
