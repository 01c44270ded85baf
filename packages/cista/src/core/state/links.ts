/**
 * What the core knows of what an entry is made of. How parts are read, and what follows when one changes, comes with
 * `composite()` (features/composite/dependencies.ts, features/composite/composing.ts): a program without it does not carry it along. Rules D1, D2.
 */
import type { Failure } from "../api/failure.js";
import type { ArgumentsOf, Source } from "../api/source-contract.js";
import type { Request } from "../lib/request.js";
import type { Entry } from "./entry.js";

/** An answer that a whole was made of, and for whom it was: what was noted of the request (rule F9). */
export interface MadeFor {
  /** The source's name. */
  readonly source: string;
  readonly params: unknown;
  readonly varies: Record<string, string>;
}

/** One entry that was read while loading another. */
export interface Part {
  readonly entry: Entry;
  /** The version of the value that was read; `notRead` while it is still waited for. */
  version: number;
  /** The cache's version when it was read last. */
  readAt: number;
  /** For whom the value was that was read. */
  madeFor: readonly MadeFor[];
}

/** What follows for an entry from what it is made of (rule D2). */
export interface ThroughParts {
  /** Whether it is stale, or invalidated, through its parts alone. */
  readonly partsStanding: "none" | "stale" | "invalidated";
  /** The earliest of its parts' moments: when they turn stale, expire, and no longer cover a failure. */
  readonly staleAt: number;
  readonly expiredAt: number;
  readonly coveredUntil: number;
  /** Whether one of its parts is `noStore`, or `mustRevalidate`. */
  readonly noStore: boolean;
  readonly mustRevalidate: boolean;
}

/** Which entries an entry was made of, and which were made of it; there once one was read by a load. */
export interface Links {
  /** In the order in which they were first read. */
  readonly parts: readonly Part[];
  readonly dependents: ReadonlySet<Entry>;
  /** For whom the value is, by what it was made of (rule F9). */
  readonly madeFor: readonly MadeFor[];
  /** Brought up to date. */
  current(): ThroughParts;
  /** What it holds, or whether it is trusted, has changed; "same" where nothing is another than before. */
  tellDependents(event?: "change" | "same"): void;
  /** It is made of nothing any more. @param keepsReads a load goes on, and keeps what it has read */
  dropParts(keepsReads?: boolean): void;
  /** An answer has come: it is made of what its load has read, or the load was spared since all its parts are as they were. */
  takeParts(areUnchanged: boolean): void;
  /** The load has failed: the parts stay as they were. @param startVersion the cache's, when it began */
  discardReads(startVersion: number): void;
  /** What its load has read so far counts no more. */
  forgetReads(): void;
  /** Whether a failure is one of a part, which was tried again there. */
  isOfPart(failure: Failure): boolean;
  /** Whether something made of it, directly or not, is watched or being loaded. */
  isWantedAbove(): boolean;
  /** The entry has left the cache. */
  releaseParts(): void;
}

/** One try of a load that may read others. */
export interface PartsReader {
  readonly keys: readonly string[];
  /** Whether the load is spared: all that it was made of is as it was. */
  spares(): Promise<boolean>;
  read<P, U>(part: Source<P, U>, ...params: ArgumentsOf<P>): Promise<U>;
}

/** Under this a composite brings what reads its parts. */
export const composingKey: unique symbol = Symbol.for("cista.composing") as never;
export type Composing = (entry: Entry, request: Request) => PartsReader;
