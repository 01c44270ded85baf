/** The state that an entry has only while it is watched, waited for or requested. */

import type { Failure } from "../api/failure.js";
import type { Standing } from "../api/freshness.js";
import type { AnyReading } from "../api/reading.js";
import type { Intervals } from "../lib/intervals.js";
import { Listeners } from "../lib/listeners.js";
import type { Waiters } from "../lib/waiters.js";
import type { EntryRequest } from "./entry-request.js";
import type { Layers } from "./layers.js";

/** The state that an entry has while it is watched, waited for or requested. */
export class Activity {
  readonly listeners: Listeners = new Listeners();
  /** Views attached. */
  watchers = 0;
  /** How many of the attached views may start requests (`when` is not false). */
  requestingWatchers = 0;

  /** The request under way. */
  request: EntryRequest | undefined = undefined;
  /** When a request was last made (for `revalidateEvery`). */
  requestedAt = 0;
  /** So many requests in a row were made because the answer before was for another user (rule F9). */
  usersInARow = 0;
  /** The intervals of attached views; there once one has one. */
  intervals: Intervals | undefined = undefined;
  /** Readers with a signal of their own that still wait. */
  readers = 0;
  /** The readers that wait for the answer of the request under way. */
  waiters: Waiters | undefined = undefined;
  /** The readers that joined after an invalidation: they wait for the request that follows (rule R2). */
  nextWaiters: Waiters | undefined = undefined;

  /** The failure of the last request, until the next answer. With a value beside it, it says which part of that is missing. */
  failure: Failure | undefined = undefined;
  failureCameWithValue = false;
  /** The layers of writes over the held value; there once a write has laid one. */
  layers: Layers | undefined = undefined;
  /** The name of the write that last invalidated the entry, for the journal. */
  invalidatedBy: string | undefined = undefined;

  /** Whether watchers are shown the held value. */
  isDisplayed = false;
  staleOnArrival = false;
  /** Whether it came with the page, for those who are put on it: attaching is no reason to ask again (rule H2). */
  isBrought = false;
  /** The standing that watchers were last told of. "expired" also for a value that was stale on arrival: it is not requested by itself. */
  announcedStanding: Standing = "fresh";
  /** Whether the value expired while the page was hidden: it is revalidated when the page is visible again. */
  expiredWhileHidden = false;
  /** The reading that a view shows before it attaches, where attaching will start a request (rule N3). */
  upcomingReading: AnyReading | undefined = undefined;
  standIn: { readonly value: unknown } | undefined = undefined;

  /** Whether a user signed out after the last view attached: until another one attaches the cache asks for nothing by itself. */
  signedOut = false;

  get hasLayers(): boolean {
    return (this.layers?.count ?? 0) > 0;
  }

  /** Whether the request under way goes on without watchers. */
  get isPinned(): boolean {
    return this.request?.runsOn || (this.waiters?.patient ?? false) || (this.nextWaiters?.patient ?? false);
  }

  /** Whether a reader waits for an answer. */
  get isAwaited(): boolean {
    return (this.waiters?.count ?? 0) + (this.nextWaiters?.count ?? 0) > 0;
  }

  /** Forgets the notes on the last answer or failure. */
  resetDisplay(): void {
    this.failure = undefined;
    this.failureCameWithValue = false;
    this.standIn = undefined;
    this.isDisplayed = false;
    this.staleOnArrival = false;
    this.isBrought = false;
    this.expiredWhileHidden = false;
  }
}
