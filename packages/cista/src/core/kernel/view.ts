/** The handle that a component has on an entry. Rules F3, N2. */
import type { AnyReading, Reading, View, ViewOptions } from "../api/reading.js";
import { type IntervalOf, intervalOf } from "../api/settings.js";
import { picked } from "../lib/picking.js";
import { batch } from "../state/batches.js";
import { assertNotDisposed } from "../state/core.js";
import type { Entry } from "../state/entry.js";
import { getOrCreateEntry } from "./keeping.js";
import { currentReading, readingOnceAttached } from "./looking.js";
import { requestNow } from "./on-demand.js";
import { addInterval, attach, detach, joinWatchers, removeInterval } from "./watching.js";

/**
 * Has a view ask every so often from now on, or no more.
 * @internal
 */
export function changeInterval(view: View<any>, interval: ViewOptions<any>["revalidateEvery"]): void {
  (view as Partial<EntryView>).changeInterval?.(interval);
}

export class EntryView implements View<any> {
  #entry: Entry;
  readonly #mayRequest: boolean;
  readonly #pick: ((value: any) => unknown) | undefined;
  #interval: number | IntervalOf | undefined;
  /** How many listen: it is attached while there are any. */
  #listening = 0;
  /** With `pick`: the last part shown, and the whole reading that it is a part of. */
  #part: AnyReading | undefined;
  #whole: AnyReading | undefined;

  constructor(entry: Entry, options: ViewOptions<any, any> = {}) {
    this.#entry = entry;
    this.#mayRequest = options.when ?? true;
    this.#pick = options.pick;
    this.#interval = this.#intervalOf(options.revalidateEvery);
  }

  get key(): string {
    return this.#entry.key;
  }

  get(): Reading<any> {
    // Of an attached view's entry the reading is kept right: this is a field read.
    const whole = this.#listening > 0 && this.#entry.reading ? this.#entry.reading : this.#unattached();
    return (this.#pick ? this.#picked(whole) : whole) as Reading<any>;
  }

  subscribe(listener: () => void): () => void {
    const entry = this.#current();
    if (this.#listening++ === 0) this.#attach(entry);
    const heard = this.#pick ? this.#picking(listener) : listener; // told of what is another than now
    const order = ++entry.shelf.core.subscriptions;
    const position = entry.active().listeners.add(heard, order); // only now: not told of its own coming
    return this.#leave.bind(this, position, order); // smaller than a closure, which tells with ten thousand of them
  }

  /** One view is one watcher, however many listen to it: who listens to it too is no newcomer (rule F3). */
  #attach(entry: Entry): void {
    if (!joinWatchers(entry, this.#mayRequest)) batch(entry.shelf.core, () => attach(entry, this.#mayRequest));
    if (this.#interval) addInterval(entry, this.#interval);
  }

  /** Harmless when called again. An attached view's entry stays the same. */
  #leave(position: number, order: number): void {
    if (!this.#entry.activity?.listeners.remove(position, order) || --this.#listening > 0) return;
    if (this.#interval) removeInterval(this.#entry, this.#interval);
    detach(this.#entry, this.#mayRequest);
  }

  /** The entry, or the one in its place where it was let go. */
  #current(): Entry {
    const { shelf, params, isRemoved } = this.#entry;
    assertNotDisposed(shelf.core);
    if (isRemoved) this.#entry = getOrCreateEntry(shelf.core, shelf.source, params);
    return this.#entry;
  }

  /** Rule N2: each listener is notified when its part of the value differs from the part that it was notified of last. */
  #picking(listener: () => void): () => void {
    let told = this.#look();
    return () => {
      const part = this.#look();
      if (part === told && part !== undefined) return;
      told = part;
      listener();
    };
  }

  /** `undefined` where `pick` throws: the listener's own look will show it. */
  #look(): unknown {
    try {
      return this.get();
    } catch {
      return undefined;
    }
  }

  async revalidate(): Promise<Reading<any>> {
    const before = this.get();
    const { shelf, params } = this.#entry;
    await requestNow(shelf, params);
    return shelf.core.disposed ? before : this.get();
  }

  /** Another interval from now on, be it none. */
  changeInterval(said: ViewOptions<any>["revalidateEvery"]): void {
    const before = this.#interval;
    this.#interval = this.#intervalOf(said);
    if (this.#listening === 0) return;
    if (before) removeInterval(this.#entry, before);
    if (this.#interval) addInterval(this.#entry, this.#interval);
  }

  /** A view that starts nothing by itself does not ask every so often either. */
  #intervalOf(said: ViewOptions<any>["revalidateEvery"]): number | IntervalOf | undefined {
    return said && this.#mayRequest ? intervalOf(said) : undefined;
  }

  #unattached(): AnyReading {
    const entry = this.#current();
    return this.#mayRequest ? readingOnceAttached(entry) : currentReading(entry);
  }

  #picked(whole: AnyReading): AnyReading {
    if (this.#pick && (!this.#part || whole !== this.#whole)) {
      this.#part = picked(whole, this.#pick, this.#part);
      this.#whole = whole;
    }
    return this.#part ?? whole;
  }
}
