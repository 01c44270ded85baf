/** The journal: its kinds of events, the causes of requests, and its interface. */
import type { Failure } from "./failure.js";

/** Why a request was made. */
export type Cause =
  | "attach"
  | "read"
  | "prefetch"
  | "visible"
  /** The held value is not for the present user (rule F9). */
  | "user"
  | "online"
  | "interval"
  | "expired"
  | "invalidated"
  | "dependency"
  | "manual";

export type JournalKind =
  | "attach"
  | "detach"
  | "read"
  | "request"
  | "answer"
  | "unchanged"
  | "missing"
  | "end"
  | "failure"
  | "retry"
  | "abort"
  | "invalidate"
  | "stale"
  | "expire"
  | "evict"
  | "put"
  | "restore"
  | "adopt"
  | "delete"
  | "sign-out"
  | "write"
  | "layer"
  | "settle"
  | "held-back"
  | "warning";

/** One thing that happened in a cache. */
export interface JournalEvent {
  /** Goes up by one with each event that anybody listens to. */
  readonly seq: number;
  /** Milliseconds since the Unix epoch. */
  readonly at: number;
  readonly kind: JournalKind;
  readonly key?: string;
  readonly source?: string;
  readonly cause?: Cause;
  readonly attempt?: number;
  /** RFC 9211, e.g. `Cista; hit; ttl=12`, `Cista; fwd=stale; fwd-status=304; stored`, `Cista; fwd=miss; collapsed`. */
  readonly cacheStatus?: string;
  readonly failure?: Failure;
  /** Milliseconds: of a request up to its answer, or of the pause before another try. */
  readonly duration?: number;
  readonly write?: string;
  readonly note?: string;
  /** The other tab that it was learned from: see `joinTabs` of `cista/browser`. */
  readonly from?: string;
}

/** The ordered record of all that happens in one cache. */
export interface Journal {
  /**
   * Costs nothing without listeners. Returns its own end.
   * @param kinds the only ones to be told of: no others are put together for this listener. Default: all
   */
  subscribe(listener: (event: JournalEvent) => void, kinds?: readonly JournalKind[]): () => void;
}

export type EventDetails = Omit<JournalEvent, "seq" | "at" | "kind">;
