/** How a tab that is new, or has been away, waits for the others' values, and how one of them tells it. Rule B5. */
import type { Hub } from "./hub.js";
import { mostOthers } from "./messages.js";

/** After how long without a sign of others a tab is alone, in milliseconds. */
export const aloneAfter = 2000;

/** How long it waits, in milliseconds. */
const welcomeTime = 40;

/** A tab that is new, or has been away. It does not trust its values before it has heard those of the others. */
export class Welcome {
  readonly #hub: Hub;
  /** Those who wait for the welcome, and for the page to go on. */
  readonly #waiting: (() => void)[] = [];
  #endTime = (): void => {};
  /** Whether the others have told their values, or had the time to. */
  isOver = false;
  /** Whether that was so once: then it knows by which clock the others go. */
  wasOver = false;

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
    this.isOver = this.wasOver = true;
    this.release();
  }

  /** The page stands still: no time limit runs out meanwhile. */
  freeze(): void {
    this.#endTime();
  }

  /** Lets all who wait go on. */
  release(): void {
    for (const goOn of this.#waiting.splice(0)) goOn();
  }

  /** Resolves when the tab knows by which clock the others go: its own messages need not wait for theirs. */
  mayTell(): Promise<void> {
    return this.wasOver && !this.#hub.isFrozen ? Promise.resolve() : this.ready();
  }

  /** Resolves when the tab knows the others' values, or no tab has told any within a moment. */
  ready(): Promise<void> {
    if ((this.isOver && !this.#hub.isFrozen) || this.#hub.isClosed) return Promise.resolve();
    return new Promise((resolve) => this.#waiting.push(resolve));
  }
}

/** So many newcomers in a row are welcomed each at once; those who come too quickly, all together, within so many milliseconds. */
const mostInARow = 5;
const inARowFor = 1000;

/** The messages for newcomers: the latest changes of each tab, and the values by one of the tabs. */
interface Greeting {
  tellChanges(): void;
  tellAll(to: readonly string[]): void;
}

/** The newcomers that wait for the values: one of the tabs that are here tells them. */
export class Greetings {
  readonly #hub: Hub;
  readonly #greeting: Greeting;
  readonly #waiting = new Set<string>();
  #inARow = 0;

  constructor(hub: Hub, greeting: Greeting) {
    this.#hub = hub;
    this.#greeting = greeting;
  }

  add(to: string): void {
    if (this.#waiting.size < mostOthers) this.#waiting.add(to);
    this.#next();
  }

  /** Another tab has done it. */
  note(to: readonly string[]): void {
    for (const each of to) this.#waiting.delete(each);
  }

  #next(): void {
    const hub = this.#hub;
    if (this.#waiting.size === 0 || this.#inARow >= mostInARow || hub.isFrozen || hub.isClosed) return;
    this.#inARow++;
    hub.after(inARowFor, () => {
      this.#inARow--;
      this.#next();
    });
    // The tab that tells them the values may not have heard of these yet.
    this.#greeting.tellChanges();
    const told = async () => this.#tell();
    if (hub.locks) hub.locks.request(hub.lockName("greet"), {}, told).catch(() => {});
    else void told();
  }

  #tell(): void {
    const to = [...this.#waiting];
    this.#waiting.clear();
    if (to.length > 0 && !this.#hub.isFrozen && !this.#hub.isClosed) this.#greeting.tellAll(to);
  }
}
