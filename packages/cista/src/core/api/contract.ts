/** What programs are written against: sources, writes, interceptors, and the cache that all are used in. */
import type { Answer, AnswerDetails, Validator } from "./answer.js";
import type { StandardSchema } from "./check.js";
import type { Duration } from "./duration.js";
import type { Failure } from "./failure.js";
import type { Freshness, Policy } from "./freshness.js";
import type { Cause } from "./journal.js";
import type { Callback, Interval, Reading, View, ViewOptions } from "./reading.js";
import type { Clock, Environment } from "./seams.js";
import type { Defaults, Retry, SourceSettings } from "./settings.js";

// ── Sources ──────────────────────────────────────────────────────────────────

/** P: the params; R: what `load` returns. T, the value, follows from R. */
export interface SourceDefinition<P, R, T = Loaded<R>> extends SourceSettings {
  /** Unique in one cache; begins the key. Without white space. */
  name: string;
  /** Any asynchronous work. An AsyncIterable makes the source live: every value it yields is an answer. */
  load(params: P, context: LoadContext): R;
  /**
   * False: takes none, though `load` names a first argument to come by its second. "optional": goes without too. Needed only
   * where a binding must tell "none" from "not known yet", since `load` names a first argument.
   */
  params?: false | "optional";
  /** A Standard Schema; what it returns is what is stored, and its output type is the value's type. A mismatch is a `Failure` of kind "shape" that shows what came. */
  check?: StandardSchema<unknown, T>;
  /** Labels of the entry, by which it can be invalidated with others (RFC 9875). */
  groups?(value: T, params: P): readonly string[];
  /** Labels that every entry bears, made of its params: an answer need not name them, and snapshots leave them out. */
  labels?(params: P): readonly string[];
  /** Whether an answer that `varies` by this would be the answer to a request made now (RFC 9111 §4.1). Default: yes. */
  fits?(varies: Readonly<Record<string, string>>, params: P, context: unknown): boolean;
  /** Whether a value out of a snapshot or a store is one of this source's; what is not is dropped. Beside `check`, where there is one. */
  accepts?(value: unknown): boolean;
  /** Shown until the first answer; marked `provisional`; never stored. */
  standIn?(params: P, cache: Cache): T | undefined;
  /**
   * While watched and the page is visible, revalidate this often. A function is given the value that is held, and says how
   * long from now, or false once there is nothing more to wait for. Default: never.
   * @example revalidateEvery: (repair) => (repair.status === "done" ? false : "2s")
   */
  revalidateEvery?: Interval<T, P>;
  /** Keep the old reference for every part that did not change. Default true for plain JSON values. */
  share?: boolean | Callback<(previous: T, next: T) => T>;
}

/** Where one kind of value comes from; defined once, used in any cache. */
export interface Source<P, T> {
  readonly name: string;
  readonly definition: SourceDefinition<P, any, T>;
}

/** How far the caches on the way may be used (WHATWG Fetch, request cache mode). */
export type LoadMode = "default" | "no-cache" | "reload" | "no-store";

/** What the cache may offer a load to make it conditional, and what a load may ask of the cache. */
export interface LoadContext {
  /** Aborted when nobody waits any more, on `timeout`, or when the load is superseded. Pass it on to `fetch`. */
  readonly signal: AbortSignal;
  /** What `createCache` was given as `context`: on a server, whose request this cache is for. */
  readonly context: unknown;
  readonly cause: Cause;
  /** 1 for the first try. */
  readonly attempt: number;
  /** Pass it to `fetch` as `cache`, so that "now" is not answered by the browser's own. */
  readonly mode: LoadMode;
  /** What is held when it is looked at, for a conditional request. */
  readonly held?: { readonly value: unknown; readonly validator?: Validator; readonly storedAt: number } | undefined;
  /** Reads another source through the same cache: collapsed and cached like any read. */
  read<P, U>(source: Source<P, U>, ...params: ArgumentsOf<NoInfer<P>>): Promise<U>;
  /** The cache's clock: milliseconds since the Unix epoch. */
  now(): number;
}

/** One load, as an interceptor sees it. */
export interface LoadCall {
  readonly key: string;
  /** Its source's name. */
  readonly source: string;
  readonly params: unknown;
  readonly context: LoadContext;
  /** What its source says of itself. */
  readonly definition: SourceDefinition<any, any>;
  /** The cache's: whose entries these are. */
  readonly partition: string | undefined;
  /** The keys of the entries that it has read so far: what it is made of. */
  readonly parts: readonly string[];
  /** How an answer may be used that says this of itself, by what its source says of all (rule F7). */
  policyOf(details: Freshness): Policy;
}

/** What an interceptor may have otherwise in the context of the load that it calls. */
export type LoadChanges = Partial<Pick<LoadContext, "signal" | "held" | "read">>;

/** Stands around every load of one cache: see `Cache.intercept`. */
export interface Interceptor {
  /**
   * Called in place of the load: may delay it, answer in its place, or fail it. `proceed` calls the load, or the next
   * interceptor, with what is to be otherwise in its context: so one that knows a value from elsewhere offers it as `held`.
   * What the load comes back with has been checked; what an interceptor answers with itself is checked after it.
   */
  load?(call: LoadCall, proceed: (changes?: LoadChanges) => unknown): unknown;
  /** Whether there is to be no network for a source, by its name: its requests wait for it (rule R6), until the removal. */
  isOffline?(source: string): boolean;
}

/** The value type behind what a load returns: a value, an Answer, a promise of either, or an AsyncIterable of either. */
export type Loaded<R> = R extends AsyncIterable<infer V> ? Valued<V> : Valued<Awaited<R>>;
type Valued<V> = V extends Answer<infer T> ? T : V;

/** What nobody has said the type of: it is to be looked into before it is used. */
export type Known<T> = 0 extends 1 & T ? unknown : T;

/** Params come first, then options: a source without params takes `undefined` there when options follow. */
export type ArgumentsOf<P, O = never> = 0 extends 1 & P
  ? [params?: any, ...OptionsOf<O>]
  : [P] extends [void]
    ? [params?: undefined, ...OptionsOf<O>]
    : undefined extends P
      ? [params?: P, ...OptionsOf<O>]
      : [params: P, ...OptionsOf<O>];
type OptionsOf<O> = [O] extends [never] ? [] : [options?: O];

// ── Writes ───────────────────────────────────────────────────────────────────

/** What a write may ask of the cache while it is sent. */
export interface SendContext {
  /** Aborted on `timeout`, when whoever runs it aborts, and when the cache is disposed of. Pass it on to `fetch`. */
  readonly signal: AbortSignal;
  /** 1 for the first try. */
  readonly attempt: number;
  /** What `createCache` was given as `context`. */
  readonly context: unknown;
  /** The cache's clock: milliseconds since the Unix epoch. */
  now(): number;
  /** One for each run, the same over its tries; unpredictable. */
  readonly idempotencyKey: string;
  /** What the answer says is no longer to be trusted: invalidated when the write has worked. */
  invalidate(selector: Selector): void;
}

/** One entry, for a layer to be laid over. */
export interface LayerTarget<T> {
  /** `change` returns the new value and leaves the old one as it is; it is applied anew to whatever comes in beneath. */
  patch(change: (value: T) => T): void;
}

/** Several entries, for a layer to be laid over each. */
export interface LayerTargets<P, T> {
  /** `change` returns the new value of one of them, or the old one where it does not concern it. It gets that entry's params. */
  patch(change: (value: T, params: P) => T): void;
}

/** Lays layers over entries. */
export interface LayerEditor {
  /** The entry of a source with these params. */
  at<P, T>(source: Source<P, T>, ...params: ArgumentsOf<NoInfer<P>>): LayerTarget<T>;
  /**
   * Every entry that holds a value now and is meant: of a source, or of a source with these among its params.
   * @example edit.each(walkers).patch((list) => ({ ...list, items: list.items.filter((each) => each.id !== id) }))
   */
  each<P, T>(selector: Source<P, T> | SourceSelector<P, T>): LayerTargets<P, T>;
}

export interface WriteDefinition<I, R> {
  /** For the journal. */
  name: string;
  /** Any asynchronous work. What it throws is a refusal, or a failure like any other. */
  send(input: I, context: SendContext): Promise<R>;
  /** Lays one layer over each entry that it patches; lifted when the write settles. Best written to do nothing where its change is already there. */
  optimistic?(input: I, edit: LayerEditor): void;
  /** Puts what the answer already tells into the cache. */
  onSuccess?(result: R, input: I, cache: Cache): void;
  /** What the write makes untrustworthy, beside the entries that it lies on. */
  invalidates?(input: I, result: R): Selector | readonly Selector[];
  /** Runs in one lane go one at a time, in order. Default: none. */
  lane?: string | ((input: I) => string);
  /** Default false: a write that was sent once may have worked. */
  retry?: Retry | false;
  /** For one try. Default "2m"; `Infinity` for none. */
  timeout?: Duration;
  /**
   * Where an outbox is open (`openOutbox` of `cista/browser`): stored before it is sent, and sent until it is answered, also
   * by a later page or another tab. Its name has to stay the same, and its input has to be data that can be stored. Default false.
   */
  kept?: boolean;
  /** A Standard Schema of the input: what was stored, perhaps by another version of the program, is checked by it. */
  check?: StandardSchema<unknown, I>;
}

/** A change to be sent; defined once, run in any cache. */
export interface Write<I, R> {
  readonly name: string;
  readonly definition: WriteDefinition<I, R>;
}

/** How far a run has come: under way, or waiting for its turn or another try, or for the network. */
export type SendingPhase = "sending" | "waiting" | "offline";

export interface RunOptions {
  /** Ends the run. What had been sent may have worked: the entries that it lies on are asked about. */
  signal?: AbortSignal;
  /** Told each time that it goes on to another phase. */
  onPhase?(phase: SendingPhase): void;
  /** The same for all tries of one change, whoever sends them. Default: 128 random bits. */
  idempotencyKey?: string;
}

/** Params of `run`: the input first, then options. */
export type RunArguments<I> = 0 extends 1 & I
  ? [input?: any, options?: RunOptions]
  : [I] extends [void]
    ? [input?: undefined, options?: RunOptions]
    : unknown extends I
      ? [input?: I, options?: RunOptions]
      : [input: I, options?: RunOptions];

// ── The cache ────────────────────────────────────────────────────────────────

export interface CacheOptions extends Defaults {
  /** Unwatched entries kept at most; the least recently used go first. Default 10,000. */
  capacity?: number;
  /** Keeps one user's entries apart from another's in snapshots, stores and tabs. */
  partition?: string;
  /** Handed to every load and write, and to `headers` of `cista/http`: on a server, the request that is being answered. */
  context?: unknown;
  /** Default: the platform's own. */
  clock?: Clock;
  /** Default: the page's own; on a server always visible and online. */
  environment?: Environment;
}

export interface ReadOptions {
  /** What this one read may use, with the meaning that `Request.cache` has (WHATWG Fetch). Default "default". */
  cache?: "default" | "no-store" | "reload" | "no-cache" | "force-cache" | "only-if-cached";
  /**
   * No older than this for this one read (RFC 9111 §5.2.1.1): past it the read waits for the source, unless `maxStale` says
   * otherwise. Where the entry has a shorter lifetime, that counts.
   */
  maxAge?: Duration;
  /** So long past its lifetime, or past `maxAge`, it still does, and is revalidated behind (RFC 9111 §5.2.1.2). */
  maxStale?: Duration;
  /** Ends this reader's wait; the request goes on while others wait or watch. */
  signal?: AbortSignal;
}

/** Params with any of their members left out, also within. */
export type PartOf<P> = P extends readonly unknown[]
  ? P
  : P extends object
    ? { readonly [K in keyof P]?: PartOf<P[K]> | undefined }
    : P;

/** The entries of a source: all, or those whose params have these members with these values. */
export interface SourceSelector<P, T = any> {
  source: Source<P, T>;
  params?: PartOf<NoInfer<P>>;
}

/** Which entries are meant. */
export type Selector<P = any> =
  | Source<any, any>
  | SourceSelector<P>
  | { key: string }
  | { group: string }
  | { where(entry: EntryInfo): boolean }
  | "all";

/** The box that holds entries: one per application in a browser, one per request on a server. */
export interface Cache {
  /**
   * One value, once. Resolves from the cache while fresh, or stale and allowed (then revalidates behind); rejects with a
   * `Failure` (kind "missing" where there is no such thing), with the signal's reason, or with a `CistaError` for a key that cannot be.
   * @example const { water } = await cache.read(hut, { id: "h-07" });
   */
  read<P, T>(source: Source<P, T>, ...rest: ArgumentsOf<NoInfer<P>, ReadOptions>): Promise<T>;
  /** What is held now, whatever the allowances. Never starts a request. */
  peek<P, T>(source: Source<P, T>, ...params: ArgumentsOf<NoInfer<P>>): Reading<T>;
  /**
   * What a component watches one entry by: see `View`.
   * @example
   * const view = cache.view(hut, { id: "h-07" });
   * const leave = view.subscribe(() => console.log(view.get()));
   */
  view<P, T, U = T>(source: Source<P, T>, ...rest: ArgumentsOf<NoInfer<P>, ViewOptions<T, U>>): View<U>;
  /** Loads before anyone attaches, unless a usable value is held. The request runs on, whoever comes and goes. */
  prefetch<P, T>(source: Source<P, T>, ...params: ArgumentsOf<NoInfer<P>>): void;
  /**
   * Holds a value from now on; a request under way is aborted, and those who wait get this value.
   * The value becomes the cache's own: parts of it that did not change are replaced by the held ones (a frozen value is copied).
   */
  put<P, T>(source: Source<P, T>, params: NoInfer<P>, value: NoInfer<T>, details?: AnswerDetails): void;
  /**
   * One entry, with all that can be done with it.
   * @example cache.at(hut, { id: "h-07" }).patch((now) => ({ ...now, water: 55 }));
   */
  at<P, T>(source: Source<P, T>, ...params: ArgumentsOf<NoInfer<P>>): EntryHandle<T>;
  /**
   * Sends a change: its layers lie over the entries at once and are lifted when it has settled. Settles as `send` does,
   * not with the revalidations that follow; rejects with a `Failure`, or with the signal's reason.
   * @example const booked = await cache.run(book, { hut: "h-07", night: "2026-12-06" });
   */
  run<I, R>(write: Write<I, R>, ...input: RunArguments<I>): Promise<R>;
  /**
   * Marks as not to be trusted (RFC 9111 §4.4); watched ones are revalidated now, the rest when next attached. Returns how many.
   * @example cache.invalidate({ source: huts, params: { region: "north" } });
   */
  invalidate<P>(selector: Selector<P>): number;
  /**
   * Asks the source again for every watched match. Resolves when all have settled; never rejects.
   * @throws CistaError code "selector" for one of another form
   */
  revalidate<P>(selector: Selector<P>): Promise<void>;
  /** Forgets. Watched entries load again (cause "attach"). Returns how many. */
  delete<P>(selector: Selector<P>): number;
  entries(): IterableIterator<EntryInfo>;
  /**
   * Puts an interceptor around every load from now on. The last one added stands outermost. Returns its own removal.
   */
  intercept(interceptor: Interceptor): () => void;
  /**
   * Forgets all that belongs to whoever has used this cache, when they sign out: ends requests and writes, under way or
   * waiting, forgets every entry and all that is stored, and tells the other tabs. Nothing of it comes back; what is
   * watched is `empty` until a component attaches, or somebody asks, anew.
   * Resolves when the stores are empty; rejects with what they say where they could not be emptied.
   */
  signOut(): Promise<void>;
  /** Calls back at each `signOut`, also one in another tab, which waits for what it returns. Returns its own end. */
  onSignOut(callback: () => unknown): () => void;
  /**
   * Calls back at each failure, of a request or of a write, when its tries are over; also where a stale value covers it, and
   * for what a definition's own callbacks throw. Of a failure that goes on from a part to a whole it tells once; never of
   * what was given up. Returns its own end.
   * @example cache.onFailure((failure, { write }) => showToast(write ? `Not saved: ${failure.message}` : failure.message));
   */
  onFailure(callback: (failure: Failure, action: FailedAction) => void): () => void;
  /** Aborts, stops every timer and listener, forgets everything. Using the cache afterwards is a `CistaError`; a second `dispose` is harmless. */
  dispose(): void;
  [Symbol.dispose](): void;
}

/** What failed: a request for an entry, or a run of a write. */
export interface FailedAction {
  /** Of the entry. */
  readonly source?: string;
  readonly key?: string;
  readonly params?: unknown;
  /** The write's name, and what it was run with. */
  readonly write?: string;
  readonly input?: unknown;
}

/** One entry of a cache: its source and params, said once. Made by `cache.at`; makes no entry by itself. */
export interface EntryHandle<T> {
  readonly key: string;
  /** What is held now, whatever the allowances. Never starts a request. */
  peek(): Reading<T>;
  /** One value, once: see `Cache.read`. */
  read(options?: ReadOptions): Promise<T>;
  /** What a component watches it by: see `View`. */
  view<U = T>(options?: ViewOptions<T, U>): View<U>;
  /** Loads before anyone attaches, unless a usable value is held. */
  prefetch(): void;
  /** Holds a value from now on: see `Cache.put`. */
  put(value: T, details?: AnswerDetails): void;
  /** Changes the held value, which stays as old as it was; false where none is held. `change` returns the new one. */
  patch(change: (value: T) => T): boolean;
  /** Marks it as not to be trusted; where it is watched it is revalidated now. False where nothing is held or under way. */
  invalidate(): boolean;
  /** Asks the source now, watched or not. Resolves with what there is then; never rejects. */
  revalidate(): Promise<Reading<T>>;
  /** Forgets it. False where there was no such entry. */
  delete(): boolean;
}

/** One entry, for lists and selectors. Moments are milliseconds since the Unix epoch; undefined where never. */
export interface EntryInfo {
  readonly key: string;
  readonly source: string;
  readonly params: unknown;
  /** What is held, whatever the allowances. */
  readonly reading: Reading<unknown>;
  /** What its watchers are shown, where there are any. */
  readonly shown?: Reading<unknown>;
  readonly watchers: number;
  readonly groups: readonly string[];
  /** The keys of the entries that it was made of. */
  readonly dependsOn: readonly string[];
  readonly staleAt?: number;
  readonly expiredAt?: number;
  readonly releasedAt?: number;
}
