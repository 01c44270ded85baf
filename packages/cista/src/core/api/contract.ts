/** What programs are written against: the cache that sources and writes are used in. */
import type { AnswerDetails } from "./answer.js";
import type { Duration } from "./duration.js";
import type { Failure } from "./failure.js";
import type { Reading, View, ViewOptions } from "./reading.js";
import type { Clock, Environment } from "./seams.js";
import type { Defaults } from "./settings.js";
import type { ArgumentsOf, ParamsLeftOut, ParamsPassedAlone, Source } from "./source-contract.js";
import type { RunArguments, Write } from "./write-contract.js";

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
  /** So long past its lifetime, or past `maxAge`, it still does, and is revalidated in the background (RFC 9111 §5.2.1.2). */
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

/** Entries that a function chooses: see `where`. */
export interface EntryTest {
  /** @internal */
  readonly [chooses]: (entry: never) => boolean;
}

/** Under this a selector brings what looks at an entry; the same in all copies of the library. */
export const chooses: unique symbol = Symbol.for("cista.chooses") as never;

/** Which entries are meant. */
export type Selector<P = any> =
  | Source<any, any>
  | SourceSelector<P>
  | { key: string }
  | { group: string }
  | EntryTest
  | "all";

/** The box that holds entries: one per application in a browser, one per request on a server. */
export interface Cache {
  /**
   * One value, once. Resolves from the cache while fresh, or stale and allowed (then revalidates in the background); rejects with a
   * `Failure` (kind "missing" where there is no such thing), with the signal's reason, or with a `CistaError` for a key that cannot be.
   * @example const { water } = await cache.read(hut, { id: "h-07" });
   */
  read<P, T>(source: Source<P, T>, ...rest: ArgumentsOf<NoInfer<P>, ReadOptions>): Promise<T>;
  read(source: ParamsLeftOut): Promise<unknown>;
  /** What is held now, whatever the allowances. Never starts a request. */
  peek<P, T>(source: Source<P, T>, ...params: ArgumentsOf<NoInfer<P>>): Reading<T>;
  peek(source: ParamsLeftOut): Reading<unknown>;
  /**
   * What a component watches one entry by: see `View`.
   * @example
   * const view = cache.view(hut, { id: "h-07" });
   * const leave = view.subscribe(() => console.log(view.get()));
   */
  view<P, T, U = T>(source: Source<P, T>, ...rest: ArgumentsOf<NoInfer<P>, ViewOptions<T, U>>): View<U>;
  view(source: ParamsLeftOut): View<unknown>;
  /** Loads before anyone attaches, unless a usable value is held. The request runs on, whoever comes and goes. */
  prefetch<P, T>(source: Source<P, T>, ...params: ArgumentsOf<NoInfer<P>>): void;
  prefetch(source: ParamsLeftOut): void;
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
  at(source: ParamsLeftOut): EntryHandle<unknown>;
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
  invalidate(source: Source<any, any>, params: ParamsPassedAlone): number;
  /**
   * Asks the source again for every watched match. Resolves when all have settled; never rejects.
   * @throws CistaError code "invalid-selector" for one of another form
   */
  revalidate<P>(selector: Selector<P>): Promise<void>;
  revalidate(source: Source<any, any>, params: ParamsPassedAlone): Promise<void>;
  /** Forgets. Watched entries load again (cause "attach"). Returns how many. */
  delete<P>(selector: Selector<P>): number;
  delete(source: Source<any, any>, params: ParamsPassedAlone): number;
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
   * what was aborted. Returns its own end.
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
  /** What is held, whatever the allowances; `undefined` where there is none. */
  readonly value: unknown;
  /** The same as a reading, made when it is looked at. */
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

/** An entry of one source, by its types. */
export interface SourceEntry<P, T> extends EntryInfo {
  readonly params: P;
  readonly value: T | undefined;
  readonly reading: Reading<T>;
}
