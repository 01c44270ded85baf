import { type Asked, Asking, isWaiting } from "./asked.js";

/** Follows the entry that one component asks for, and tells the component of changes. No framework, no DOM. */
export class Follower extends Asking {
  readonly #changed: () => void;
  #followed: Asked | undefined;
  #leave: (() => void) | undefined;
  #waiting: (() => void)[] = [];

  /** @param changed called when the reading may be another one (rule N1: at once); never during `ask` or `attach` */
  constructor(changed: () => void) {
    super();
    this.#changed = changed;
  }

  /** Whether it is attached to the entry that was asked for last. */
  get isAttached(): boolean {
    return this.#followed !== undefined && this.#followed === this.asked;
  }

  /** Attaches to the entry that was asked for last, then leaves the former one, in one go. */
  attach(): void {
    const { asked } = this;
    asked?.applyInterval();
    if (!asked || asked === this.#followed) return;
    const leave = this.#leave;
    this.#followed = asked;
    this.#leave = asked.subscribe(this.#heard);
    leave?.();
    this.#tellWaiting();
  }

  /** Leaves. Harmless when called again; `attach` comes back. */
  leave(): void {
    const leave = this.#leave;
    this.#leave = this.#followed = undefined;
    leave?.();
  }

  /** Resolves when the entry that is asked for by then has something to show, be it a failure. To be called while attached. */
  shown(): Promise<void> {
    return new Promise((resolve) => {
      this.#waiting.push(resolve);
      this.#tellWaiting();
    });
  }

  readonly #heard = (): void => {
    this.#tellWaiting();
    this.#changed();
  };

  #tellWaiting(): void {
    if (this.#waiting.length === 0 || isWaiting(this.asked?.view.get())) return;
    for (const resolve of this.#waiting.splice(0)) resolve();
  }
}
