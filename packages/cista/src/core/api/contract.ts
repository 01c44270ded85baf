/** The contract for programs: the cache that sources and writes are used in. */
import type { AnswerDetails } from "./answer.js";
import type { Duration } from "./duration.js";
import type { Failure } from "./failure.js";
import type { Reading, View, ViewOptions } from "./reading.js";
import type { Clock, Environment } from "./seams.js";
import type { Defaults } from "./settings.js";
import type { ArgumentsOf, ParamsLeftOut, ParamsPassedAlone, Source } from "./source-contract.js";
import type { RunArguments, Write } from "./write-contract.js";

export interface CacheOptions extends Defaults {
  /** How many idle entries are kept at most. The least recently used ones go first. Default 10,000. */
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
  /** The cache mode of this one read, with the meaning that `Request.cache` has (WHATWG Fetch). Default "default". */
  cache?: "default" | "no-store" | "reload" | "no-cache" | "force-cache" | "only-if-cached";
  /**
   * How old the value may be for this read (RFC 9111 §5.2.1.1). For an older value the read waits for the source, unless
   * `maxStale` allows it. A shorter lifetime of the entry counts.
   */
  maxAge?: Duration;
  /** How long past its lifetime, or past `maxAge`, a value is still returned, and revalidated in the background (RFC 9111 §5.2.1.2). */
  maxStale?: Duration;
  /** Ends the wait of this reader. The request goes on while others wait for it. */
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
  params?: NoInfer<P> | PartOf<NoInfer<P>>;
}

/** Entries that a function chooses: see `where`. */
export interface EntryTest {
  /** @internal */
  readonly [chooses]: (entry: never) => boolean;
}

/** The member of a selector that tests an entry; the same symbol in all copies of the library. */
export const chooses: unique symbol = Symbol.for("cista.chooses") as never;

/** The entries of a group; with an origin those of its URLs alone, since a group is one only within its origin (RFC 9875 §2). */
export interface GroupSelector {
  group: string;
  /** As `URL.origin` says it. @default any */
  origin?: string;
}

/** Which entries are meant. */
export type Selector<P = any> =
  | Source<any, any>
  | SourceSelector<P>
  | { key: string }
  | GroupSelector
  | EntryTest
  | "all";

/** The box that holds entries: one per application in a browser, one per request on a server. */
export interface Cache {
  /**
   * One value, once. A fresh value resolves from the cache. So does a stale one that is allowed, and is revalidated in the
   * background. Otherwise it waits for the source.
   * @throws (rejects with) a `Failure`, of kind "missing" where there is no such thing; the signal's reason; a `CistaError` for params
   * that cannot make a key
   * @example const { water } = await cache.read(hut, { id: "h-07" });
   */
  read<P, T>(source: Source<P, T>, ...rest: ArgumentsOf<NoInfer<P>, ReadOptions>): Promise<T>;
  read(source: ParamsLeftOut): Promise<unknown>;
  /** The reading of the held value, also of one that is too old to be shown. Never starts a request. */
  peek<P, T>(source: Source<P, T>, ...params: ArgumentsOf<NoInfer<P>>): Reading<T>;
  peek(source: ParamsLeftOut): Reading<unknown>;
  /**
   * A handle by which a component watches one entry: see `View`.
   * @example
   * const view = cache.view(hut, { id: "h-07" });
   * const leave = view.subscribe(() => console.log(view.get()));
   */
  view<P, T, U = T>(source: Source<P, T>, ...rest: ArgumentsOf<NoInfer<P>, ViewOptions<T, U>>): View<U>;
  view(source: ParamsLeftOut): View<unknown>;
  /** Loads before a component attaches, unless a usable value is held. The request goes on, also when no reader waits for it. */
  prefetch<P, T>(source: Source<P, T>, ...params: ArgumentsOf<NoInfer<P>>): void;
  prefetch(source: ParamsLeftOut): void;
  /**
   * Holds a value from now on. A request under way is aborted, and its readers get this value.
   * The value becomes the cache's own: its parts that equal those of the held value are replaced by them. A frozen value is copied.
   */
  put<P, T>(source: Source<P, T>, params: NoInfer<P>, value: NoInfer<T>, details?: AnswerDetails): void;
  /**
   * A handle on one entry, for all operations.
   * @example cache.at(hut, { id: "h-07" }).patch((now) => ({ ...now, water: 55 }));
   */
  at<P, T>(source: Source<P, T>, ...params: ArgumentsOf<NoInfer<P>>): EntryHandle<T>;
  at(source: ParamsLeftOut): EntryHandle<unknown>;
  /**
   * Sends a change. Its layers are shown at once, and go when it has settled. Settles when `send` settles, before the
   * revalidations that follow. Rejects with a `Failure`, or with the signal's reason.
   * @example const booked = await cache.run(book, { hut: "h-07", night: "2026-12-06" });
   */
  run<I, R>(write: Write<I, R>, ...input: RunArguments<I>): Promise<R>;
  /**
   * Invalidates entries (RFC 9111 §4.4). Watched entries are revalidated now, others when they are next watched or read. A watched
   * entry that shows a failure, and holds nothing, is requested too. Returns how many were held or under way.
   * @example cache.invalidate({ source: huts, params: { region: "north" } });
   */
  invalidate<P>(selector: Selector<P>): number;
  invalidate(source: Source<any, any>, params: ParamsPassedAlone): number;
  /**
   * Requests every watched entry that the selector means. Resolves when all have settled. Never rejects.
   * @throws CistaError code "invalid-selector" for one of another form
   */
  revalidate<P>(selector: Selector<P>): Promise<void>;
  revalidate(source: Source<any, any>, params: ParamsPassedAlone): Promise<void>;
  /** Forgets entries. Watched entries load again (cause "attach"). Returns how many. */
  delete<P>(selector: Selector<P>): number;
  delete(source: Source<any, any>, params: ParamsPassedAlone): number;
  /**
   * Forgets everything that belongs to the user of this cache. Ends requests and writes, under way or waiting, forgets every
   * entry, empties the stores, and tells the other tabs. A watched entry is `empty` until a component attaches, or it is requested.
   * Resolves when the stores are empty. Rejects with the reason of a store that could not be emptied.
   */
  signOut(): Promise<void>;
  /** Calls back at each `signOut`, also of another tab. `signOut` waits for a promise that the callback returns. Returns a function that ends it. */
  onSignOut(callback: () => unknown): () => void;
  /**
   * Calls back at each failure of a request or a write, when its tries are over, also where a stale value is shown. What callbacks
   * of a definition throw is told too. A failure that reaches a composite from a dependency is told once. An abort is not told.
   * Returns a function that ends it.
   * @example cache.onFailure((failure, { write }) => showToast(write ? `Not saved: ${failure.message}` : failure.message));
   */
  onFailure(callback: (failure: Failure, action: FailedAction) => void): () => void;
  /** Aborts all requests, stops all timers and listeners, forgets everything. Later calls throw a `CistaError`; a second `dispose` does nothing. */
  dispose(): void;
  [Symbol.dispose](): void;
}

/** The origin of a failure: a request for an entry, or a run of a write. */
export interface FailedAction {
  /** Of the entry. */
  readonly source?: string;
  readonly key?: string;
  readonly params?: unknown;
  /** The write's name and its input. */
  readonly write?: string;
  readonly input?: unknown;
}

/** A handle on one entry: its source and params are given once. `cache.at` returns it. It makes no entry by itself. */
export interface EntryHandle<T> {
  readonly key: string;
  /** The reading of the held value, also of one that is too old to be shown. Never starts a request. */
  peek(): Reading<T>;
  /** One value, once: see `Cache.read`. */
  read(options?: ReadOptions): Promise<T>;
  /** A handle by which a component watches it: see `View`. */
  view<U = T>(options?: ViewOptions<T, U>): View<U>;
  /** Loads before a component attaches, unless a usable value is held. */
  prefetch(): void;
  /** Holds a value from now on: see `Cache.put`. */
  put(value: T, details?: AnswerDetails): void;
  /** Changes the held value; its age stays. `change` returns the new value. Returns false where no value is held. */
  patch(change: (value: T) => T): boolean;
  /** Invalidates it. A watched entry is revalidated now. Returns false where no value is held and no request is under way. */
  invalidate(): boolean;
  /** Requests it now, watched or not. Resolves with the reading after that. Never rejects. */
  revalidate(): Promise<Reading<T>>;
  /** Forgets it. Returns false where there was no such entry. */
  delete(): boolean;
}

/** One entry, for lists and selectors. Moments are milliseconds since the Unix epoch; undefined where never. */
export interface EntryInfo {
  readonly key: string;
  readonly source: string;
  readonly params: unknown;
  /** The held value, also one that is too old to be shown; `undefined` where there is none. */
  readonly value: unknown;
  /** The same as a reading. It is made when this member is read. */
  readonly reading: Reading<unknown>;
  /** The reading that its watchers show; `undefined` without watchers. */
  readonly shown?: Reading<unknown>;
  readonly watchers: number;
  readonly groups: readonly string[];
  /** The keys of its dependencies. */
  readonly dependsOn: readonly string[];
  readonly staleAt?: number;
  readonly expiredAt?: number;
  readonly releasedAt?: number;
}

/** An entry of one source, by its types. */
export interface SourceEntry<P, T> extends EntryInfo {
  readonly params: P;
  readonly value: T | undefined;
  readonly reading: Reading<T>;
}
