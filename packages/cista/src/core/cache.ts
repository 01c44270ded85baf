import type { AnswerDetails } from "./ground/answer.js";
import type {
  Around,
  Cache,
  CacheOptions,
  EntryInfo,
  ReadOptions,
  RunOptions,
  Selector,
  Source,
  Write,
} from "./ground/contract.js";
import { Failure, ofEntry } from "./ground/failure.js";
import { type Journal, report } from "./ground/journal.js";
import type { Reading, View, ViewOptions } from "./ground/reading.js";
import type { Clock, Environment } from "./ground/seams.js";
import type { Snapshot } from "./ground/stored.js";
import { Core, type Duties, nowOf, refuseDisposed } from "./state/core.js";
import type { Entry } from "./state/entry.js";
import { turn } from "./state/turns.js";
import { giveUp, start } from "./work/asking.js";
import { forget, invalidate, patch, put, takeOver } from "./work/changing.js";
import { infoOf } from "./work/info.js";
import { file, obtain } from "./work/keeping.js";
import { askNow, lookAtNothing, lookHeld, renew } from "./work/looking.js";
import { read } from "./work/reader.js";
import { selected } from "./work/selector.js";
import { signOut } from "./work/signing-out.js";
import { adoptRestored, restoreSnapshot, takeSnapshot } from "./work/snapshot.js";
import { EntryView } from "./work/view.js";
import { comeDue, settleDoubts, settleLeft, wake } from "./work/watching.js";
import { run } from "./work/write.js";

const usual: ReadOptions = {};

/** Who does what when its time has come. */
const duties: Duties = {
  renew,
  settleDoubts,
  settleLeft,
  reschedule: file,
  comeDue,
  opened: (shelf, old) => (old ? takeOver(shelf, old) : adoptRestored(shelf)),
};

type AnySource = Source<any, any>;
type JustParams = [params?: any, options?: never];

/**
 * The core's cache: the seams are given, not assumed. `createCache` of the package's front door fills them in.
 * @internal
 */
export class CoreCache implements Cache {
  readonly #core: Core;
  readonly #leaveEnvironment: () => void;

  constructor(options: CacheOptions & { clock: Clock; environment: Environment }) {
    this.#core = new Core(options, this, duties);
    const core = this.#core;
    const ends = [followEnvironment(core)];
    const { others } = core.environment;
    const heard = (partition: string | undefined) => {
      if (partition === options.partition && !core.disposed) void signOut(core).catch(report);
    };
    if (others) ends.push(others.onSignOut(heard));
    this.#leaveEnvironment = () => {
      for (const end of ends) end();
    };
    if (options.snapshot) restoreSnapshot(this.#core, options.snapshot);
  }

  get journal(): Journal {
    return this.#core.recorder;
  }

  read(source: AnySource, params?: unknown, options: ReadOptions = usual): Promise<any> {
    try {
      this.#open();
      return read(this.#core.shelves.of(source), params, options);
    } catch (thrown) {
      return Promise.reject(thrown);
    }
  }

  peek(source: AnySource, ...[params]: JustParams): Reading<any> {
    this.#open();
    const { shelves } = this.#core;
    const entry = shelves.find(source, params);
    return (entry ? lookHeld(entry) : lookAtNothing(shelves.of(source), params)) as Reading<any>;
  }

  view(source: AnySource, params?: unknown, options?: ViewOptions<any, any>): View<any> {
    return new EntryView(this.#obtain(source, params), options);
  }

  prefetch(source: AnySource, ...[params]: JustParams): void {
    const entry = this.#obtain(source, params);
    if (entry.isUsable(nowOf(this.#core))) return;
    if (!entry.request) turn(this.#core, () => start(entry, "prefetch"));
    if (entry.request) entry.active().runsOn = true;
  }

  put(source: AnySource, params: unknown, value: unknown, details?: AnswerDetails): void {
    put(this.#obtain(source, params), value, details);
  }

  patch(source: AnySource, params: unknown, change: (value: any) => unknown): boolean {
    this.#open();
    const entry = this.#core.shelves.find(source, params);
    return entry !== undefined && patch(entry, change);
  }

  run(write: Write<any, any>, input?: unknown, options?: RunOptions): Promise<any> {
    try {
      this.#open();
      return run(this.#core, write, input, options);
    } catch (thrown) {
      return Promise.reject(thrown);
    }
  }

  invalidate(selector: Selector): number {
    return this.#count(selector, invalidate);
  }

  delete(selector: Selector): number {
    return this.#count(selector, forget);
  }

  revalidate(selector: Selector): Promise<void> {
    const watched = this.#selected(selector).filter((entry) => entry.watchers > 0);
    const asked = turn(this.#core, () => Promise.all(watched.map(({ shelf, params }) => askNow(shelf, params))));
    return asked.then(() => {});
  }

  /** Those that there are when it begins: whoever goes through them may add and delete. */
  *entries(): IterableIterator<EntryInfo> {
    this.#open();
    for (const entry of [...this.#core.shelves.byKey.values()]) if (!entry.gone) yield infoOf(entry);
  }

  snapshot(select: Selector = "all"): Snapshot {
    return takeSnapshot(this.#core, this.#selected(select));
  }

  restore(snapshot: Snapshot): void {
    this.#open();
    restoreSnapshot(this.#core, snapshot);
  }

  intercept(around: Around, offline: (source: string) => boolean = () => false): () => void {
    this.#open();
    const core = this.#core;
    // The same functions twice stand there twice.
    const own: Around = (call, proceed) => around(call, proceed);
    const ownOffline = (source: string) => offline(source);
    core.arounds = [...core.arounds, own];
    core.offlines = [...core.offlines, ownOffline];
    return () => {
      core.arounds = core.arounds.filter((other) => other !== own);
      core.offlines = core.offlines.filter((other) => other !== ownOffline);
      for (const entry of [...core.underWay]) if (entry.request?.phase === "offline") entry.request.hurry();
    };
  }

  async signOut(): Promise<void> {
    this.#open();
    const { environment, options } = this.#core;
    environment.others?.tellSignOut(options.partition);
    await signOut(this.#core);
  }

  onSignOut(callback: () => unknown): () => void {
    this.#open();
    const own = () => callback();
    this.#core.signOuts.add(own);
    return () => void this.#core.signOuts.delete(own);
  }

  dispose(): void {
    const core = this.#core;
    if (core.disposed) return;
    core.disposed = true;
    core.clock.stop(); // first: what is called while it ends can set no timer any more
    this.#leaveEnvironment();
    turn(core, () => this.#end());
    core.recorder.close();
  }

  #end(): void {
    const core = this.#core;
    core.outbox?.abortAll(new Failure("aborted", "The cache was disposed of while the write was under way."));
    for (const entry of [...core.underWay]) {
      giveUp(entry, "the cache was disposed of");
      // Who watches waits for something that never comes: it is told so.
      const failure = new Failure("aborted", "The cache was disposed of while the request was under way.");
      entry.active().failure = ofEntry(failure, entry.key, 0);
    }
    for (const entry of core.shelves.byKey.values()) entry.gone = true;
    for (const { budget } of core.shelves) budget.stop();
    for (const timer of [core.leaveTimer, core.restoredTimer]) if (timer !== undefined) core.clock.clearTimer(timer);
    core.schedule.stop();
    core.shelves.clear();
    core.groups.clear();
    for (const set of [core.watched, core.left, core.doubted, core.restored, core.signOuts]) set.clear();
    core.oldest = core.newest = undefined;
  }

  [Symbol.dispose](): void {
    this.dispose();
  }

  #open(): void {
    refuseDisposed(this.#core);
  }

  #obtain(source: AnySource, params: unknown): Entry {
    this.#open();
    return obtain(this.#core, source, params);
  }

  #selected(selector: Selector): Entry[] {
    this.#open();
    return selected(this.#core, selector);
  }

  #count(selector: Selector, change: (entry: Entry) => boolean): number {
    const entries = this.#selected(selector);
    return turn(this.#core, () => entries.filter(change).length);
  }
}

function followEnvironment(core: Core): () => void {
  const { environment } = core;
  let { visible, online } = environment;
  /** The network came back while nobody looked. */
  let missed = false;
  return environment.subscribe(() => {
    const before = { visible, online };
    ({ visible, online } = environment);
    const back = online && !before.online;
    if (back) wake(core, "online");
    missed = online && (missed || (back && !visible));
    if (!visible || before.visible) return;
    wake(core, "visible");
    if (missed) wake(core, "online");
    missed = false;
  });
}
