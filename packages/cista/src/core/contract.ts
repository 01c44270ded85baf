import type { AnswerDetails } from "./answer.js";
import type { Around } from "./asking.js";
import type { Journal } from "./journal.js";
import type { ReadOptions } from "./reader.js";
import type { Reading } from "./reading.js";
import type { Clock, Environment } from "./seams.js";
import type { Selector } from "./selector.js";
import type { Defaults } from "./settings.js";
import type { Snapshot } from "./snapshot.js";
import type { ArgumentsOf, Source } from "./source.js";
import type { View, ViewOptions } from "./view.js";
import type { RunArguments, Write } from "./write.js";

export interface CacheOptions extends Defaults {
  /** Unwatched entries kept at most; the least recently used go first. Default 10,000. */
  capacity?: number;
  /** Keeps one user's entries apart from another's in snapshots, stores and tabs. */
  partition?: string;
  /** Restored before anything else. */
  snapshot?: Snapshot;
  /** Default: the platform's own. */
  clock?: Clock;
  /** Default: the page's own; on a server always visible and online. */
  environment?: Environment;
}

/** The box that holds entries: one per application in a browser, one per request on a server. */
export interface Cache {
  /**
   * One value, once. Resolves from the cache while fresh, or stale and allowed (then revalidates behind); rejects with a
   * `Failure` (kind "missing" where there is no such thing), with the signal's reason, or with a `CistaError` for a key that cannot be.
   */
  read<P, T>(source: Source<P, T>, ...rest: ArgumentsOf<P, ReadOptions>): Promise<T>;
  /** What is held now, whatever the allowances. Never starts a request. */
  peek<P, T>(source: Source<P, T>, ...params: ArgumentsOf<P>): Reading<T>;
  /** A handle on one entry for a component: see `View`. */
  view<P, T, U = T>(source: Source<P, T>, ...rest: ArgumentsOf<P, ViewOptions<T, U>>): View<U>;
  /** Loads before anyone attaches, unless a usable value is held. The request runs on, whoever comes and goes. */
  prefetch<P, T>(source: Source<P, T>, ...params: ArgumentsOf<P>): void;
  /**
   * Holds a value from now on; a request under way is aborted, and those who wait get this value.
   * The value becomes the cache's own: parts of it that did not change are replaced by the held ones (a frozen value is copied).
   */
  put<P, T>(source: Source<P, T>, params: P, value: T, details?: AnswerDetails): void;
  /** Changes the held value, which stays as old as it was; false where none is held. `change` returns the new one. */
  patch<P, T>(source: Source<P, T>, params: P, change: (value: T) => T): boolean;
  /**
   * Sends a change: its layers lie over the entries at once and are lifted when it has settled. Settles as `send` does,
   * not with the revalidations that follow; rejects with a `Failure`, or with the signal's reason.
   */
  run<I, R>(write: Write<I, R>, ...input: RunArguments<I>): Promise<R>;
  /** Marks as not to be trusted (RFC 9111 §4.4); watched ones are revalidated now, the rest when next attached. Returns how many. */
  invalidate(selector: Selector): number;
  /** Asks the source again for every watched match. Resolves when all have settled; never rejects. */
  revalidate(selector: Selector): Promise<void>;
  /** Forgets. Watched entries load again (cause "attach"). Returns how many. */
  delete(selector: Selector): number;
  entries(): IterableIterator<EntryInfo>;
  /** The content as data, for a file, a page rendered on a server, or another cache: see docs/snapshot-format.md. Default: all of it. */
  snapshot(select?: Selector): Snapshot;
  /** Takes a snapshot's entries in where nothing is held yet. @throws CistaError code "snapshot" for one of another form or partition */
  restore(snapshot: Snapshot): void;
  readonly journal: Journal;
  /**
   * Stands around every load from now on: may delay it, answer in its place, or fail it. The last one added stands
   * outermost. Returns its own removal.
   * @param offline for which sources there is to be no network: their requests wait for it (rule R6), until the removal
   */
  intercept(around: Around, offline?: (source: string) => boolean): () => void;
  /** Aborts, stops every timer and listener, forgets everything. Using the cache afterwards is a `CistaError`; a second `dispose` is harmless. */
  dispose(): void;
  [Symbol.dispose](): void;
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
