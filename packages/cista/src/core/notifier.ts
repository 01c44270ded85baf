import type { Entry } from "./entry.js";
import { Listeners } from "./listeners.js";

/**
 * Changes come in turns: all state is changed first, then the readings of what was touched are made anew, then those
 * whose reading changed are told (rule N1). A turn inside a turn is part of it.
 */
export class Notifier {
  #depth = 0;
  #touched: Entry[] = [];
  /** Makes a touched entry's reading anew; says whether it is another one. */
  readonly #renew: (entry: Entry) => boolean;

  constructor(renew: (entry: Entry) => boolean) {
    this.#renew = renew;
  }

  /** To be called within a turn, with each entry whose reading may have changed. */
  touch(entry: Entry): void {
    this.#touched.push(entry);
  }

  turn<T>(change: () => T): T {
    this.#depth++;
    try {
      return change();
    } finally {
      if (this.#depth === 1) this.#close();
      else this.#depth--;
    }
  }

  #close(): void {
    const tell: Listeners[] = [];
    try {
      for (const entry of new Set(this.#touched)) {
        if (entry.watchers > 0 && this.#renew(entry) && entry.activity) tell.push(entry.activity.listeners);
      }
    } finally {
      this.#touched = [];
      this.#depth--;
    }
    // The state is consistent from here on: a listener may change something in a turn of its own.
    if (tell.length === 1) tell[0]?.callAll();
    else if (tell.length > 1) Listeners.callAllOf(tell);
  }
}
