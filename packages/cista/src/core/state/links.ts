/**
 * The core's contract for the dependencies of an entry. How they are read, and the effects of their changes, come with
 * `composite()` (features/composite/dependencies.ts, features/composite/composing.ts): a program without it does not carry it along. Rules D1, D2.
 */
import type { Failure } from "../api/failure.js";
import type { ArgumentsOf, Source } from "../api/source-contract.js";
import type { Entry } from "./entry.js";
import type { EntryRequest } from "./entry-request.js";

/** An answer that a composite was made of, and for whom it was: the notes on its request (rule F9). */
export interface MadeFor {
  /** The source's name. */
  readonly source: string;
  readonly params: unknown;
  readonly varies: Record<string, string>;
}

/** One entry that was read while loading another. */
export interface Dependency {
  readonly entry: Entry;
  /** The version of the value that was read; `notRead` while it is still waited for. */
  version: number;
  /** The cache's version when it was read last. */
  readAt: number;
  /** The cache's version at which the value that was read was trusted last: an invalidation since then is one of that value. */
  trustedAt: number;
  /** For whom the value was that was read. */
  madeFor: readonly MadeFor[];
}

/** The effects of its dependencies on an entry (rule D2). */
export interface ThroughDependencies {
  /** Whether it is stale, or invalidated, through its dependencies alone. */
  readonly dependencyStanding: "none" | "stale" | "invalidated";
  /** The earliest of its dependencies' moments: when they turn stale, expire, and no longer cover a failure. */
  readonly staleAt: number;
  readonly expiredAt: number;
  readonly coveredUntil: number;
  /** Whether one of its dependencies is `noStore`, or `mustRevalidate`. */
  readonly noStore: boolean;
  readonly mustRevalidate: boolean;
}

/** Which entries an entry was made of, and which were made of it; there once one was read by a load. */
export interface Links {
  /** In the order in which they were first read. */
  readonly dependencies: readonly Dependency[];
  readonly dependents: ReadonlySet<Entry>;
  /** When its last invalidation ended, its own or through its dependencies: when the load began, or at a deletion. A version of the cache. */
  wasInvalidatedAt: number;
  /** For whom the value is, by its dependencies (rule F9). */
  madeFor: readonly MadeFor[];
  /** Brought up to date. */
  current(): ThroughDependencies;
  /** The held value, or its standing, has changed; "same" where nothing is another than before. */
  tellDependents(event?: "change" | "same"): void;
  /** It has no dependencies any more. @param keepsReads a load goes on, and keeps the entries that it has read */
  dropDependencies(keepsReads?: boolean): void;
  /** An answer has come: its dependencies are the entries that its load has read, or the former ones where the load was spared. */
  takeDependencies(areUnchanged: boolean): void;
  /** The load has failed: the dependencies stay as they were. @param startVersion the cache's, when it began */
  discardReads(startVersion: number): void;
  /** Forgets the entries that its load has read so far. */
  forgetReads(): void;
  /** The held value is about to be forgotten: what is made of it stays invalidated. */
  noteForgotten(): void;
  /** Whether a failure is one of a dependency, which was tried again there. */
  isOfDependency(failure: Failure): boolean;
  /** Whether the last request failed by a dependency, and that one, or the one by which it failed itself, has no failure any more. */
  readonly hasRecovered: boolean;
  /** Whether something made of it, directly or not, is watched or being loaded. */
  isWantedAbove(): boolean;
  /** The entry has left the cache. */
  releaseDependencies(): void;
}

/** One try of a load that may read others. */
export interface DependencyReader {
  readonly keys: readonly string[];
  /** Whether the load is spared: all that it was made of is as it was. */
  spares(): Promise<boolean>;
  read<P, U>(dependency: Source<P, U>, ...params: ArgumentsOf<P>): Promise<U>;
}

/** The part of a composite that the core calls. */
export interface Composing {
  /** A try of its load begins. */
  begin(entry: Entry, request: EntryRequest): DependencyReader;
  /** A program has put a value: the entry is made of no others, and is for the present user (rule F9). */
  put(entry: Entry): void;
}

/** The member under which a composite brings it. */
export const composingKey: unique symbol = Symbol.for("cista.composing") as never;

export function composingOf(source: Source<any, any>): Composing | undefined {
  return (source as { readonly [composingKey]?: Composing })[composingKey];
}
