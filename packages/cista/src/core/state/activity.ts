import type { LoadMode } from "../api/contract.js";
import type { Failure } from "../api/failure.js";
import type { Standing } from "../api/freshness.js";
import type { Cause } from "../api/journal.js";
import type { AnyReading } from "../api/reading.js";
import type { Forward } from "../lib/cache-status.js";
import { Listeners } from "../lib/listeners.js";
import type { Request } from "../lib/request.js";
import type { Waiters } from "../lib/waiters.js";
import type { Entry } from "./entry.js";
import type { Layers } from "./layers.js";
import type { Part } from "./links.js";

/** What an entry needs while it is watched, waited for or asked about. */
export class Activity {
  readonly listeners: Listeners = new Listeners();
  /** Views attached. */
  watchers = 0;
  /** Those of them that may start requests (`when` is not false). */
  requestingWatchers = 0;

  request: Request | undefined = undefined;
  /** Its answers keep coming: what is held is fresh for as long as the stream is open. */
  isOpen = false;
  /** Of the request under way, or the last one. */
  cause: Cause = "attach";
  mode: LoadMode = "default";
  /** Why what is held did not do (RFC 9211 §2.2). */
  forward: Forward = "miss";
  /** The version at which somebody asked for what is under way; 0: nobody did. */
  askedVersion = 0;
  /** When it was last asked for, for `revalidateEvery`; and when the try under way began. */
  requestedAt = 0;
  tryStartedAt = 0;
  /** The request under way runs on by itself, whoever comes and goes: it was prefetched, for example. */
  runsOn = false;
  /** Readers with a signal of their own that still wait. */
  readers = 0;
  /** Wait for the answer of the request under way. */
  waiters: Waiters | undefined = undefined;
  /** Joined after an invalidation: wait for an answer begun after it (rule R2). */
  nextWaiters: Waiters | undefined = undefined;

  /** What the load under way has read so far; what it waits for now; what failed for it there. */
  partsRead: Part[] = [];
  readonly awaited: Set<Entry> = new Set();
  /** Smaller than that of all that it waits for (rule D4); 0: it never waited. */
  rank = 0;
  failuresFromParts: WeakSet<WeakKey> = new WeakSet();

  /** Of the last request, until the next answer; `cameBeside`: it came beside a value, of which it says what is missing. */
  failure: Failure | undefined = undefined;
  failureCameWithValue = false;
  /** The changes of writes that lie over what is held; there once one has laid one. */
  layers: Layers | undefined = undefined;
  /** The write by which it was last invalidated: the cause of the request that follows. */
  invalidatedBy: string | undefined = undefined;

  /** What is held is shown to watchers. */
  isDisplayed = false;
  staleOnArrival = false;
  /** How far its ageing has been told; "expired" also for what came stale, which is not asked for again by itself. */
  announcedStanding: Standing = "fresh";
  /** It expired while nobody looked at the page: to be revalidated when somebody does. */
  expiredWhileHidden = false;
  /** What a view shows that has not attached yet but will ask when it does (rule N3). */
  upcomingReading: AnyReading | undefined = undefined;
  standIn: { readonly value: unknown } | undefined = undefined;

  /** Somebody signed out: by itself the cache asks for nothing here, until somebody asks or attaches anew. */
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

  /** What was said of the last answer, or of its failing to come, no longer applies. */
  resetDisplay(): void {
    this.failure = undefined;
    this.failureCameWithValue = false;
    this.standIn = undefined;
    this.isDisplayed = false;
    this.staleOnArrival = false;
    this.expiredWhileHidden = false;
  }
}
