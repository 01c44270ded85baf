/** A load that waits for another tab's request. */
import type { Body, News } from "./messages.js";

export type Heard =
  | { readonly kind: "news"; readonly news: News }
  | { readonly kind: "own" }
  | Extract<Body, { kind: "failed" }>;

export class Wait {
  /** The moment of the oldest value that will do. */
  readonly since: number;
  /** When the other tab last gave a sign; and when a sign was asked for that has not come, or 0. */
  lastSign: number;
  askedAt = 0;
  /** A stream that another tab has open: it stays for the next value. */
  isFollowing = false;
  readonly #queue: Heard[] = [];
  #wake: (() => void) | undefined;

  constructor(since: number, now: number) {
    this.since = since;
    this.lastSign = now;
  }

  sign(now: number): void {
    this.lastSign = now;
    this.askedAt = 0;
  }

  feed(heard: Heard, now: number): void {
    this.sign(now);
    if (!this.isFollowing) this.#queue.length = 0; // the last one counts
    this.#queue.push(heard);
    this.wake();
  }

  next(): Heard | undefined {
    return this.#queue.shift();
  }

  /** The news among what was heard and is not taken yet. */
  get heard(): News[] {
    return this.#queue.flatMap((each) => (each.kind === "news" ? each.news : []));
  }

  get hasNext(): boolean {
    return this.#queue.length > 0;
  }

  /** Something has changed: the load is to look again. */
  readonly wake = (): void => this.#wake?.();

  /** Resolves at the next `wake`. */
  changed(): Promise<void> {
    return new Promise((resolve) => {
      this.#wake = resolve;
    });
  }
}
