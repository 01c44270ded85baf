/** How a tab that is new, or has been away, waits for what the others hold, and how one of them tells it. Rule B5. */
import type { Hub } from "./hub.js";

/** After how long without a sign of others a tab is alone, in milliseconds. */
export const aloneAfter = 2000;

/** How long it waits, in milliseconds. */
const welcomeTime = 40;

/** It does not believe what it holds before it has heard what the others hold. */
export class Welcome {
  readonly #hub: Hub;
  /** Those who wait for the welcome, and for the page to go on. */
  readonly #waiting: (() => void)[] = [];
  #endTime = (): void => {};
  /** Whether the others have said what they hold, or had the time to. */
  isOver = false;

  constructor(hub: Hub) {
    this.#hub = hub;
  }

  begin(): void {
    this.isOver = false;
    this.#endTime();
    this.#endTime = this.#hub.after(welcomeTime, () => this.end());
  }

  end(): void {
    if (this.#hub.isFrozen || this.isOver) return;
    this.#endTime();
    this.isOver = true;
    this.release();
  }

  /** The page stands still: nobody's time runs out meanwhile. */
  freeze(): void {
    this.#endTime();
  }

  /** Whoever waits goes on. */
  release(): void {
    for (const goOn of this.#waiting.splice(0)) goOn();
  }

  /** Resolves when the tab knows what the others hold, or nobody has told within a moment. */
  ready(): Promise<void> {
    if ((this.isOver && !this.#hub.isFrozen) || this.#hub.isClosed) return Promise.resolve();
    return new Promise((resolve) => this.#waiting.push(resolve));
  }
}

/** Who has been told what there is: one of those who are here tells it. */
export class Greetings {
  readonly #hub: Hub;
  readonly #greeted = new Set<string>();

  constructor(hub: Hub) {
    this.#hub = hub;
  }

  /** Another tab has done it. */
  note(to: string): void {
    this.#greeted.add(to);
  }

  /** Done by whoever is given this lock first. */
  give(to: string, tellAll: () => void): void {
    const hub = this.#hub;
    const told = async () => {
      if (this.#greeted.has(to) || hub.isFrozen || hub.isClosed) return;
      this.#greeted.add(to);
      tellAll();
    };
    if (hub.locks) hub.locks.request(hub.lockName(`greet ${to}`), {}, told).catch(() => {});
    else void told();
    hub.after(aloneAfter, () => this.#greeted.delete(to)); // it may go away and come back
  }
}
