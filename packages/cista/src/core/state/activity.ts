/** What an entry needs only while it is watched, waited for or asked about. */

import type { Failure } from "../api/failure.js";
import type { Standing } from "../api/freshness.js";
import type { Cause } from "../api/journal.js";
import type { AnyReading } from "../api/reading.js";
import type { LoadMode } from "../api/source-contract.js";
import type { Forward } from "../lib/cache-status.js";
import type { Intervals } from "../lib/intervals.js";
import { Listeners } from "../lib/listeners.js";
import type { Request } from "../lib/request.js";
import type { Waiters } from "../lib/waiters.js";
import type { Layers } from "./layers.js";

/** What an entry needs while it is watched, waited for or asked about. */
export class Activity {
  readonly listeners: Listeners = new Listeners();
  /** Views attached. */
  watchers = 0;
  /** How many of the attached views may start requests (`when` is not false). */
  requestingWatchers = 0;

  request: Request | undefined = undefined;
  /** The request is a stream that is open: what is held is fresh for as long as it is. */
  isOpen = false;
  /** Why the request under way, or the last one, was made, and in which mode. */
  cause: Cause = "attach";
  mode: LoadMode = "default";
  /** Why the request under way, or the last one, was not answered from what was held (RFC 9211 §2.2). */
  forward: Forward = "miss";
  /** The version at which a person asked for the request under way (`revalidate`, or a cache mode); 0: nobody did. */
  askedVersion = 0;
  /** When a request was last made (for `revalidateEvery`), and when its last try began. */
  requestedAt = 0;
  tryStartedAt = 0;
  /** So many requests in a row were made because the answer before was for another user (rule F9). */
  usersInARow = 0;
  /** Somebody came for the answer while the request was under way: the user may have been another one by then. */
  hasLatecomers = false;
  /** The request under way runs on though nobody waits: it was prefetched, or it revalidates in the background for a read. */
  runsOn = false;
  /** What attached views say of how often to revalidate; there once one has said so. */
  intervals: Intervals | undefined = undefined;
  /** Readers with a signal of their own that still wait. */
  readers = 0;
  /** The readers that wait for the answer of the request under way. */
  waiters: Waiters | undefined = undefined;
  /** The readers that joined after an invalidation: they wait for the request that follows (rule R2). */
  nextWaiters: Waiters | undefined = undefined;

  /** The failure of the last request, until the next answer. With a value beside it, it says what of that is missing. */
  failure: Failure | undefined = undefined;
  failureCameWithValue = false;
  /** The changes of writes that lie over what is held; there once one has laid one. */
  layers: Layers | undefined = undefined;
  /** The name of the write that last invalidated the entry, for the journal. */
  invalidatedBy: string | undefined = undefined;

  /** Whether watchers are shown what is held. */
  isDisplayed = false;
  staleOnArrival = false;
  /** Whether it came with the page, for those who are put on it: attaching is no reason to ask again (rule H2). */
  isBrought = false;
  /** The standing that watchers were last told of. "expired" also for what was stale on arrival: it is not asked for by itself. */
  announcedStanding: Standing = "fresh";
  /** Whether the value expired while the page was hidden: it is revalidated when the page is visible again. */
  expiredWhileHidden = false;
  /** The reading that a view shows before it attaches, where attaching will start a request (rule N3). */
  upcomingReading: AnyReading | undefined = undefined;
  standIn: { readonly value: unknown } | undefined = undefined;

  /** Whether somebody signed out since the last view attached: until then the cache asks for nothing by itself. */
  signedOut = false;

  get hasLayers(): boolean {
    return (this.layers?.count ?? 0) > 0;
  }

  /** Whether the request under way runs on though nobody watches. */
  get isPinned(): boolean {
    return this.runsOn || (this.waiters?.patient ?? false) || (this.nextWaiters?.patient ?? false);
  }

  /** Whether somebody waits for an answer. */
  get isAwaited(): boolean {
    return (this.waiters?.count ?? 0) + (this.nextWaiters?.count ?? 0) > 0;
  }

  /** Forgets what was noted of the last answer or failure. */
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
