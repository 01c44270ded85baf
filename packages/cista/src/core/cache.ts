import type { AnswerDetails } from "./answer.js";
import { type Around, Asking } from "./asking.js";
import { Changing } from "./changing.js";
import type { Cache, CacheOptions, EntryInfo } from "./contract.js";
import type { Entry } from "./entry.js";
import { CistaError, shown } from "./failure.js";
import { Groups } from "./groups.js";
import { Idle } from "./idle.js";
import { type Journal, Recorder } from "./journal.js";
import { expiredAt, Keeping, labelsOf, releasedAt, staleAt } from "./keeping.js";
import { keyText } from "./key.js";
import { Looking, standInOf } from "./looking.js";
import { Notifier } from "./notifier.js";
import { Reader, type ReadOptions } from "./reader.js";
import type { AnyReading, Reading } from "./reading.js";
import { Schedule } from "./schedule.js";
import type { Clock, Environment } from "./seams.js";
import { type Selector, selected } from "./selector.js";
import { type Shelf, Shelves } from "./shelf.js";
import type { Source } from "./source.js";
import { EntryView, type View, type Viewing, type ViewOptions } from "./view.js";
import { Watching } from "./watching.js";
import type { Wiring } from "./wiring.js";

type AnySource = Source<any, any>;

/** The core's cache: the seams are given, not assumed. `createCache` of the package's front door fills them in. */
export class CoreCache implements Cache {
  readonly #wiring: Wiring;
  readonly #keeping: Keeping;
  readonly #asking: Asking;
  readonly #watching: Watching;
  readonly #looking: Looking;
  readonly #reader: Reader;
  readonly #changing: Changing;
  readonly #viewing: Viewing;
  readonly #leaveEnvironment: () => void;
  #subscriptions = 0;
  #disposed = false;

  constructor(options: CacheOptions & { clock: Clock; environment: Environment }) {
    const { clock, environment } = options;
    const epoch = clock.now();
    const now = () => clock.now() - epoch;
    let version = 0;
    this.#wiring = {
      clock,
      environment,
      epoch,
      now,
      nextVersion: () => ++version,
      shelves: new Shelves(options, (old, by) => this.#takeOver(old, by)),
      groups: new Groups(),
      idle: new Idle(capacityOf(options)),
      schedule: new Schedule<Entry>(clock, now, (entries) => this.#watching.due(entries)),
      notifier: new Notifier((entry) => this.#looking.renew(entry)),
      recorder: new Recorder(() => clock.now()),
    };
    const readPart = (source: AnySource, params: unknown, signal: AbortSignal) =>
      this.#reader.read(source, params, { signal });
    this.#keeping = new Keeping(this.#wiring);
    this.#asking = new Asking(this.#wiring, this.#keeping, readPart, (entry) => this.#watching.leave(entry));
    this.#watching = new Watching(this.#wiring, this.#keeping, this.#asking);
    this.#looking = new Looking(
      this.#wiring,
      async (entry) => this.#ask(this.#current(entry)),
      (entry) => this.#standIn(entry),
    );
    this.#reader = new Reader(this.#wiring, this.#keeping, this.#asking, this.#watching, (source, params) =>
      this.#obtain(source, params),
    );
    this.#changing = new Changing(this.#wiring, this.#keeping, this.#asking, this.#watching);
    this.#viewing = {
      entry: (before) => this.#current(before),
      now: (entry) => this.#looking.now(entry),
      ahead: (entry) => this.#looking.ahead(entry),
      subscribe: (entry, listener, asks) => this.#subscribe(entry, listener, asks),
      ask: (entry) => this.#ask(entry),
    };
    this.#leaveEnvironment = this.#followEnvironment(environment);
  }

  get journal(): Journal {
    return this.#wiring.recorder;
  }

  read(source: AnySource, params?: unknown, options?: ReadOptions): Promise<any> {
    try {
      this.#open();
      return this.#reader.read(source, params, options);
    } catch (thrown) {
      return Promise.reject(thrown);
    }
  }

  peek(source: AnySource, ...[params]: [params?: any, options?: never]): Reading<any> {
    this.#open();
    const entry = this.#wiring.shelves.find(source, params);
    return (entry ? this.#looking.held(entry) : this.#emptyReading(source, params)) as Reading<any>;
  }

  view(source: AnySource, params?: unknown, options?: ViewOptions<any, any>): View<any> {
    this.#open();
    return new EntryView(this.#obtain(source, params), this.#viewing, options);
  }

  prefetch(source: AnySource, ...[params]: [params?: any, options?: never]): void {
    this.#open();
    const entry = this.#obtain(source, params);
    if (entry.isUsable(this.#wiring.now())) return;
    entry.active().pinned = true;
    if (!entry.request) this.#wiring.notifier.turn(() => this.#asking.start(entry, "prefetch"));
  }

  put(source: AnySource, params: unknown, value: unknown, details?: AnswerDetails): void {
    this.#open();
    this.#changing.put(this.#obtain(source, params), value, details);
  }

  patch(source: AnySource, params: unknown, change: (value: any) => unknown): boolean {
    this.#open();
    const entry = this.#wiring.shelves.find(source, params);
    return entry !== undefined && this.#changing.patch(entry, change);
  }

  invalidate(selector: Selector): number {
    return this.#forEach(selector, (entry) => this.#changing.invalidate(entry));
  }

  delete(selector: Selector): number {
    return this.#forEach(selector, (entry) => {
      this.#changing.delete(entry);
      return true;
    });
  }

  async revalidate(selector: Selector): Promise<void> {
    this.#open();
    const watched = this.#selected(selector).filter((entry) => entry.watchers > 0);
    await this.#wiring.notifier.turn(() => Promise.all(watched.map((entry) => this.#ask(entry))));
  }

  *entries(): IterableIterator<EntryInfo> {
    this.#open();
    for (const entry of this.#wiring.shelves.byKey.values()) yield this.#infoOf(entry);
  }

  intercept(around: Around): () => void {
    this.#open();
    return this.#asking.intercept(around);
  }

  dispose(): void {
    if (this.#disposed) return;
    this.#disposed = true;
    this.#leaveEnvironment();
    const { shelves, schedule, groups, recorder } = this.#wiring;
    for (const entry of shelves.byKey.values()) {
      if (entry.request) this.#asking.giveUp(entry, "the cache was disposed");
      entry.gone = true;
      entry.filed = Number.POSITIVE_INFINITY;
    }
    this.#watching.stop();
    schedule.stop();
    shelves.clear();
    groups.clear();
    recorder.close();
  }

  [Symbol.dispose](): void {
    this.dispose();
  }

  // ── Between the rooms ──────────────────────────────────────────────────────

  #open(): void {
    if (this.#disposed) {
      throw new CistaError("disposed", "This cache has been disposed of. Make another one with createCache().");
    }
  }

  #obtain(source: AnySource, params: unknown): Entry {
    return this.#wiring.shelves.obtain(source, params, (entry) => this.#keeping.file(entry));
  }

  /** The entry itself, or the one in its place where it was let go. */
  #current(entry: Entry): Entry {
    if (!entry.gone) return entry;
    this.#open();
    return this.#obtain(entry.shelf.source, entry.params);
  }

  #selected(selector: Selector): Entry[] {
    return selected(this.#wiring, selector, (entry) => this.#infoOf(entry));
  }

  #forEach(selector: Selector, change: (entry: Entry) => boolean): number {
    this.#open();
    const entries = this.#selected(selector);
    return this.#wiring.notifier.turn(() => entries.filter(change).length);
  }

  #subscribe(entry: Entry, listener: () => void, asks: boolean): () => void {
    this.#open();
    this.#wiring.notifier.turn(() => this.#watching.attach(entry, asks));
    const remove = entry.active().listeners.add(listener, ++this.#subscriptions);
    return () => {
      remove();
      if (!this.#disposed) this.#watching.detach(entry, asks);
    };
  }

  /** Asks now; resolves when the answer has come, whatever it is. */
  async #ask(entry: Entry): Promise<void> {
    this.#open();
    // RFC 8246 §2: what is immutable and fresh is not asked about, not even on demand.
    if (entry.policy.immutable && entry.isFresh(this.#wiring.now())) return;
    const answer = this.#wiring.notifier.turn(() => {
      const { confirmed } = this.#asking.join(entry, "asked");
      if (entry.watchers === 0) entry.active().pinned = true;
      return confirmed;
    });
    await answer.then(ignore, ignore);
  }

  #standIn(entry: Entry): unknown {
    const { standIn } = entry.shelf.source.definition;
    return standInOf(entry, standIn && ((params) => standIn(params, this)));
  }

  #emptyReading(source: AnySource, params: unknown): AnyReading {
    return {
      key: keyText(source.name, params),
      state: "empty",
      value: undefined,
      provisional: undefined,
      fresh: undefined,
      storedAt: undefined,
      failure: undefined,
      pendingWrites: undefined,
      request: "none",
      revalidate: () => this.#ask(this.#obtain(source, params)),
    };
  }

  #infoOf(entry: Entry): EntryInfo {
    const { epoch } = this.#wiring;
    const moment = (at: number) => (at === Number.POSITIVE_INFINITY ? undefined : epoch + at);
    const held = entry.held !== "none";
    return {
      key: entry.key,
      source: entry.shelf.source.name,
      params: entry.params,
      reading: this.#looking.held(entry) as Reading<unknown>,
      watchers: entry.watchers,
      groups: labelsOf(entry),
      ...defined("staleAt", held ? moment(staleAt(entry)) : undefined),
      ...defined("expiredAt", held ? moment(expiredAt(entry)) : undefined),
      ...defined("releasedAt", entry.isIdle ? moment(releasedAt(entry)) : undefined),
    };
  }

  /** In development a newer definition takes a name over: what the old one brought is forgotten and loaded anew. */
  #takeOver(old: Shelf, by: Shelf): void {
    const name = by.source.name;
    const note = `A second source is named "${name}": it takes the place of the first. After hot reloading that is as it should be; else give one of them another name, and define sources once, outside of components.`;
    console.warn(`Cista: ${note}`);
    if (this.#wiring.recorder.listening) this.#wiring.recorder.record("warning", { source: name, note });
    const entries = [...this.#wiring.shelves.byKey.values()].filter((entry) => entry.shelf === old);
    this.#wiring.notifier.turn(() => {
      for (const entry of entries) {
        old.remove(entry);
        entry.shelf = by;
        entry.policy = by.settings.policy;
        by.add(entry);
        this.#changing.delete(entry);
      }
    });
  }

  #followEnvironment(environment: Environment): () => void {
    let { visible, online } = environment;
    return environment.subscribe(() => {
      const before = { visible, online };
      ({ visible, online } = environment);
      if (online && !before.online) this.#watching.wake("online");
      if (visible && !before.visible) this.#watching.wake("visible");
    });
  }
}

function capacityOf({ capacity = 10_000 }: CacheOptions): number {
  if (typeof capacity === "number" && capacity >= 0) return capacity;
  throw new CistaError("capacity", `capacity is a number of entries, 0 or more, but it is ${shown(capacity)}.`);
}

function defined<K extends string, V>(name: K, value: V | undefined): { [k in K]?: V } {
  return value === undefined ? {} : ({ [name]: value } as { [k in K]?: V });
}

function ignore(): void {}
