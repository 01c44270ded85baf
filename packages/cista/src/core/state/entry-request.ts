/** The request of an entry: why it was made, and for whom it goes on. Rules R1, R3, F9, D7. */
import type { Cause } from "../api/journal.js";
import type { LoadMode } from "../api/source-contract.js";
import type { Forward } from "../lib/cache-status.js";
import { Request, type RequestHost } from "../lib/request.js";

/** One request of one entry, with the facts that count only while it is under way. */
export class EntryRequest extends Request {
  readonly cause: Cause;
  /** A next try that is another user's is a `reload` (rule F9). */
  mode: LoadMode;
  /** Why it was not answered from the held value (RFC 9211 §2.2). */
  readonly forward: Forward;
  /** The version at which it was asked for by hand (`revalidate`, or a cache mode); 0: it was not. */
  readonly askedVersion: number;
  /** When its last try began. */
  tryStartedAt = 0;
  /** It is an open stream: the held value is fresh for as long as it is open. */
  isOpen = false;
  /** A reader came for the answer while it was under way: the user may have been another one by then. */
  hasLatecomers = false;
  /** Another user came while it was under way: a failure is not that user's (rule F9). */
  isFormerUsers = false;
  /** It goes on without readers: it was prefetched, or it revalidates in the background for a read. */
  runsOn = false;

  constructor(host: RequestHost, cause: Cause, mode: LoadMode, forward: Forward, askedVersion: number) {
    super(host);
    this.cause = cause;
    this.mode = mode;
    this.forward = forward;
    this.askedVersion = askedVersion;
  }
}
