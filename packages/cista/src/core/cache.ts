/** The cache: its methods, and the callbacks that connect the rooms. Rule S3. */
import type { AnswerDetails } from "./api/answer.js";
import type { Cache, CacheOptions, EntryHandle, ReadOptions, Selector } from "./api/contract.js";
import { CistaError, Failure, ofEntry, preview } from "./api/failure.js";
import type { Reading, View, ViewOptions } from "./api/reading.js";
import type { Clock, Environment } from "./api/seams.js";
import type { RunOptions, Write } from "./api/write-contract.js";
import { changeSelected, put, replaceDefinition } from "./features/changing/changing.js";
import { Handle } from "./features/changing/handle.js";
import { selected } from "./features/changing/selector.js";
import { read } from "./features/reading/reader.js";
import { abandonRequest } from "./kernel/asking.js";
import { getOrCreateEntry } from "./kernel/keeping.js";
import { heldReading, readingWithoutEntry, refresh } from "./kernel/looking.js";
import { prefetch, requestNow } from "./kernel/on-demand.js";
import { signOut } from "./kernel/signing-out.js";
import { EntryView } from "./kernel/view.js";
import { followEnvironment, onDue, releaseUnused } from "./kernel/watching.js";
import { report } from "./lib/guarded.js";
import { batch } from "./state/batches.js";
import { assertNotDisposed, type Callbacks, Core, coreKey, nowOf, type RunWith, runKey } from "./state/core.js";
import type { Entry } from "./state/entry.js";

const usual: ReadOptions = {};

/** The functions that `state` calls back. */
const callbacks: Callbacks = {
  refresh,
  releaseUnused,
  onDue,
  requestNow,
  onShelfOpened: (shelf, old) =>
    DEVELOPMENT && old ? replaceDefinition(shelf, old) : shelf.core.pendingRestores?.adopt(shelf),
};

/** The compiler checks calls by the contract: some of its signatures are there to refuse. */
type AnySource = any;
type JustParams = [params?: any];

/**
 * The core's cache: the seams are given, not assumed. `createCache` of the package's front door fills them in.
 * @internal
 */
export class CoreCache implements Cache {
  readonly #core: Core;
  readonly #leaveEnvironment: () => void;
  /** The other pages of the site, where there are any. */
  readonly #others: ReturnType<NonNullable<Environment["others"]>["join"]> | undefined;

  constructor(options: CacheOptions & { clock: Clock; environment: Environment }) {
    const core = new Core(options, this, callbacks);
    this.#core = core;
    Object.defineProperty(this, coreKey, { value: core });
    this.#leaveEnvironment = followEnvironment(core);
    this.#others = core.environment.others?.join((partition) => {
      if (partition === options.partition && !core.disposed) void signOut(core).catch(report);
    });
  }

  read(source: AnySource, params?: unknown, options: ReadOptions = usual): Promise<any> {
    try {
      this.#assertUsable();
      return read(this.#core.shelves.of(source), params, options);
    } catch (thrown) {
      return Promise.reject(thrown);
    }
  }

  peek(source: AnySource, ...[params]: JustParams): Reading<any> {
    this.#assertUsable();
    const { shelves } = this.#core;
    const entry = shelves.find(source, params);
    return (entry ? heldReading(entry) : readingWithoutEntry(shelves.of(source), params)) as Reading<any>;
  }

  view(source: AnySource, params?: unknown, options?: ViewOptions<any, any>): View<any> {
    return new EntryView(this.#getOrCreate(source, params), options);
  }

  prefetch(source: AnySource, ...[params]: JustParams): void {
    const entry = this.#getOrCreate(source, params);
    if (entry.isUsable(nowOf(this.#core))) return;
    prefetch(entry);
  }

  put(source: AnySource, params: unknown, value: unknown, details?: AnswerDetails): void {
    put(this.#getOrCreate(source, params), value, details);
  }

  at(source: AnySource, ...[params]: JustParams): EntryHandle<any> {
    this.#assertUsable();
    this.#core.shelves.of(source); // refuses what is no source where it was written
    return new Handle(this.#core, source, params);
  }

  run(write: Write<any, any>, input?: unknown, options: RunOptions = {}): Promise<any> {
    try {
      this.#assertUsable();
      const runWith = (write as { readonly [runKey]?: RunWith } | undefined)?.[runKey];
      const { keeper } = this.#core;
      if (runWith && keeper && write.definition.kept) return keeper.run(write, input, options);
      if (runWith) return runWith(this.#core, write, input, options);
      throw new CistaError(
        "not-a-write",
        DEVELOPMENT && `run takes what write() has made, but it got ${preview(write)}.`,
      );
    } catch (thrown) {
      return Promise.reject(thrown);
    }
  }

  invalidate(selector: Selector): number {
    return changeSelected(this.#core, "invalidate", [selector]);
  }

  delete(selector: Selector): number {
    return changeSelected(this.#core, "delete", [selector]);
  }

  revalidate(selector: Selector): Promise<void> {
    const watched = this.#selected(selector).filter((entry) => entry.watchers > 0);
    const asked = batch(this.#core, () => Promise.all(watched.map(({ shelf, params }) => requestNow(shelf, params))));
    return asked.then(() => {});
  }

  async signOut(): Promise<void> {
    this.#assertUsable();
    this.#others?.tellSignOut(this.#core.options.partition);
    await signOut(this.#core);
  }

  onSignOut(callback: () => unknown): () => void {
    this.#assertUsable();
    const own = () => callback();
    this.#core.signOuts.add(own);
    return () => void this.#core.signOuts.delete(own);
  }

  onFailure(callback: Parameters<Cache["onFailure"]>[0]): () => void {
    this.#assertUsable();
    const own: typeof callback = (failure, action) => callback(failure, action);
    this.#core.failureListeners.add(own);
    return () => void this.#core.failureListeners.delete(own);
  }

  dispose(): void {
    const core = this.#core;
    if (core.disposed) return;
    core.disposed = true;
    core.clock.stop(); // first: what is called while it ends can set no timer any more
    this.#leaveEnvironment();
    this.#others?.leave();
    batch(core, () => this.#end());
    core.journal?.close();
    for (const callback of core.disposals) callback();
  }

  #end(): void {
    const core = this.#core;
    core.outbox?.abortAll(new Failure("aborted", "The cache was disposed of while the write was under way."));
    for (const entry of [...core.underWay]) {
      abandonRequest(entry, "the cache was disposed of");
      // Who watches waits for something that never comes: it is told so.
      const failure = new Failure("aborted", "The cache was disposed of while the request was under way.");
      entry.active().failure = ofEntry(failure, entry.key, 0);
    }
    for (const entry of core.shelves.byKey.values()) entry.isRemoved = true;
    for (const shelf of core.shelves) shelf.stop();
    if (core.releaseTimer !== undefined) core.clock.clearTimer(core.releaseTimer);
    core.pendingRestores?.clear();
    core.schedule.stop();
    core.shelves.clear();
    core.groups.clear();
    for (const set of [core.watched, core.pendingReleases, core.pendingChecks, core.signOuts]) set.clear();
    core.failureListeners.clear();
    core.idle.clear();
  }

  [Symbol.dispose](): void {
    this.dispose();
  }

  #assertUsable(): void {
    assertNotDisposed(this.#core);
  }

  #getOrCreate(source: AnySource, params: unknown): Entry {
    this.#assertUsable();
    return getOrCreateEntry(this.#core, source, params);
  }

  #selected(selector: Selector): Entry[] {
    this.#assertUsable();
    return selected(this.#core, selector);
  }
}
