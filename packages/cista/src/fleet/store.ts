/** The store that the processes of a fleet share. `redis/` has it; tests have one in virtual time. See docs/fleet-protocol.md. */

/** The store's record under one id, and the next step. */
export interface Found {
  /** "invalid": invalidated since; "own": for the caller alone who has asked; "failed": the request that was waited for. */
  readonly state: "none" | "fresh" | "stale" | "invalid" | "own" | "failed";
  readonly stored?: StoredRecord;
  /** It is ours to ask: the version of the record that we shall put. */
  readonly token?: string;
  /** Another process asks: for how long its lease still goes, in milliseconds. */
  readonly leaseLeft?: number;
  /** Of "failed": kind and status of the failure, as JSON. */
  readonly failure?: string;
}

export interface StoredRecord {
  /** JSON; "" where it is known that there is nothing. */
  readonly value: string;
  /** The details of the value, as JSON: see record.ts. */
  readonly meta: string;
  readonly version: number;
  /** Milliseconds, by the store's clock. */
  readonly age: number;
  /** The labels that it can be invalidated by. */
  readonly labels: readonly string[];
}

/** The record that is there, whether it is invalidated or not. */
export interface Looked {
  readonly stored: StoredRecord;
  /** Milliseconds. */
  readonly lifetime: number;
  /** The version of an invalidation by its id; 0: none. */
  readonly invalidatedAt: number;
}

/** A record to put. */
export interface Put {
  readonly value: string;
  readonly meta: string;
  /** Milliseconds: its age by now, its lifetime for the fleet, and how long it is kept. */
  readonly age: number;
  readonly lifetime: number;
  readonly keep: number;
  readonly labels: readonly string[];
}

/** Why a request ended without an answer for all. */
export interface Release {
  /** For so long, in milliseconds, no caller waits for another's answer. */
  readonly own?: number;
  /** For those who have waited: see `Found.failure`. */
  readonly failure?: string;
}

export interface Invalidation {
  readonly labels: readonly string[];
  readonly ids: readonly string[];
}

/** An invalidation, as it is heard. */
export interface HeardInvalidation extends Invalidation {
  readonly version: number;
  /** The process that it is from. */
  readonly by: string;
}

export interface News {
  /** The version of the last invalidation that there is: the next question begins there. */
  readonly last: number;
  /** In their order, those since the one that was heard last. */
  readonly invalidations: readonly HeardInvalidation[];
  /** Some are not there any more: the memory cannot be trusted. */
  readonly isGap: boolean;
}

/** The store has answered, by an error that is of one call: it is not away. */
export class Refusal extends Error {}

/** Each call settles: it rejects where the store does not answer within its time, with a `Refusal` where it answers by an error. */
export interface FleetStore {
  /** This process', as others hear it. */
  readonly name: string;
  /** The record, in the quickest way: whether it is invalidated is judged here. */
  look(id: string): Promise<Looked | undefined>;
  /** All labels that were invalidated since a version; undefined where they are too many. */
  labels(): Promise<{ readonly since: number; readonly all: readonly (readonly [string, number])[] } | undefined>;
  /** The record; where it is not fresh and no process asks, the lease to ask. @param hasWaited for a request of another process */
  take(id: string, hasWaited: boolean): Promise<Found>;
  /** A token to put a new answer, whatever there is. */
  takeAnew(id: string): Promise<string>;
  /** "lost": the lease has gone to another process meanwhile. */
  put(id: string, token: string, put: Put): Promise<"stored" | "older" | "invalidated" | "lost">;
  release(id: string, token: string, why: Release): Promise<void>;
  /** @returns whether the lease is still ours */
  renew(id: string, token: string): Promise<boolean>;
  /** @returns its version */
  invalidate(what: Invalidation): Promise<number>;
  /** Whether all others have heard of that invalidation that may still answer out of their memory. */
  isHeardByAll(version: number): Promise<boolean>;
  /**
   * The invalidations since then. Tells the store that this process has heard all up to there, and its state.
   * @param since undefined: from now on
   */
  news(since: number | undefined, about: string): Promise<News>;
  /** Called with the id of a record that was put or released, and with undefined where there are news. Some may be lost. */
  listen(listener: (id: string | undefined) => void): void;
  close(): void;
}
