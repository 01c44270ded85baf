import type { Entry } from "./entry.js";
import type { Seat } from "./listeners.js";
import { picked } from "./picking.js";
import type { AnyReading, Reading } from "./reading.js";

/** A live, subscribable handle on one entry. */
export interface View<T> {
  readonly key: string;
  /** The reading now. Never starts a request; the same object until something changes. */
  get(): Reading<T>;
  /** Attaches. Notified after every change of the reading, never during `subscribe`. Returns its own end. */
  subscribe(listener: () => void): () => void;
  /** Asks the source now, joining a request under way unless that one is already out of date. */
  revalidate(): Promise<Reading<T>>;
}

export interface ViewOptions<T, U = T> {
  /** False: attached but never starts a request by itself; `revalidate()` still does. Default true. */
  when?: boolean;
  /** Only this part of the value is shown, and only its changes are told. */
  pick?(value: T): U;
}

/** What a view needs of its cache. */
export interface Viewing {
  /** The entry, looked up anew where it was let go meanwhile. */
  entry(before: Entry): Entry;
  now(entry: Entry): AnyReading;
  ahead(entry: Entry): AnyReading;
  attach(entry: Entry, listener: () => void, asks: boolean): Seat;
  detach(entry: Entry, seat: Seat, asks: boolean): void;
  ask(entry: Entry): Promise<void>;
}

export class EntryView implements View<any> {
  #entry: Entry;
  readonly #viewing: Viewing;
  readonly #asks: boolean;
  readonly #pick: ((value: any) => unknown) | undefined;
  #attached = 0;
  /** With `pick`: the last part shown, and the whole reading that it is a part of. */
  #part: AnyReading | undefined;
  #whole: AnyReading | undefined;

  constructor(entry: Entry, viewing: Viewing, options: ViewOptions<any, any> = {}) {
    this.#entry = entry;
    this.#viewing = viewing;
    this.#asks = options.when ?? true;
    this.#pick = options.pick;
  }

  get key(): string {
    return this.#entry.key;
  }

  get(): Reading<any> {
    // Of an attached view's entry the reading is kept right: this is a field read.
    const whole = this.#attached > 0 && this.#entry.reading ? this.#entry.reading : this.#unattached();
    return (this.#pick ? this.#picked(whole) : whole) as Reading<any>;
  }

  subscribe(listener: () => void): () => void {
    if (this.#entry.gone) this.#entry = this.#viewing.entry(this.#entry);
    const seat = this.#viewing.attach(this.#entry, this.#pick ? this.#picking(listener) : listener, this.#asks);
    this.#attached++;
    return () => this.#leave(seat);
  }

  /** Harmless when called again. An attached view's entry stays the same. */
  #leave(seat: Seat): void {
    if (seat.index < 0) return;
    this.#attached--;
    this.#viewing.detach(this.#entry, seat, this.#asks);
  }

  #picking(listener: () => void): () => void {
    this.get(); // what its next change is measured against
    return () => {
      if (this.#changedPart()) listener();
    };
  }

  async revalidate(): Promise<Reading<any>> {
    const before = this.get();
    await this.#viewing.ask(this.#entry);
    return this.#entry.shelf.core.disposed ? before : this.get();
  }

  #unattached(): AnyReading {
    this.#entry = this.#viewing.entry(this.#entry);
    return this.#asks ? this.#viewing.ahead(this.#entry) : this.#viewing.now(this.#entry);
  }

  /** Rule N2. Also true where `pick` throws: the listener's own look will show it. */
  #changedPart(): boolean {
    const before = this.#part;
    try {
      return this.get() !== before;
    } catch {
      return true;
    }
  }

  #picked(whole: AnyReading): AnyReading {
    if (this.#pick && (!this.#part || whole !== this.#whole)) {
      this.#part = picked(whole, this.#pick, this.#part);
      this.#whole = whole;
    }
    return this.#part ?? whole;
  }
}
