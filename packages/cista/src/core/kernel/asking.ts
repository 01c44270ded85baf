/** One request of one entry: started, joined, abandoned, and the effects of its outcome. Rules R1, R2, R5, F3, H11, S6. */
import { type Answer, dependenciesUnchanged, missing } from "../api/answer.js";
import { checked } from "../api/check.js";
import { asFailure, Failure, ofEntry, refusesAccess } from "../api/failure.js";
import type { Cause } from "../api/journal.js";
import type { Clock } from "../api/seams.js";
import type { LoadMode } from "../api/source-contract.js";
import type { Forward } from "../lib/cache-status.js";
import type { RequestHost } from "../lib/request.js";
import { mayStandIn } from "../lib/showing.js";
import { type Outcome, Waiters } from "../lib/waiters.js";
import { afterChange, batch, markDirty, scheduleRelease } from "../state/batches.js";
import { type Core, isOnline, nowOf, record } from "../state/core.js";
import type { Entry } from "../state/entry.js";
import { EntryRequest } from "../state/entry-request.js";
import { tellFailure } from "./failing.js";
import { changeHeld } from "./keeping.js";
import { load } from "./loading.js";
import { invalidateIfChanged, lastChangeFor } from "./named-groups.js";
import { applyAnswer } from "./taking.js";
import { notesNow } from "./users.js";
import { outcomeOf } from "./waiting.js";
import { warnOfOtherUser, warnOfUnknownUser } from "./warnings.js";

/** A reader does not wait for a longer pause than this, in milliseconds, whatever a server asks for (rule R5). */
const longestWait = 120_000;

/** Begins a request; there must be none under way (rule R1). @param askedVersion the version of a request by hand, 0 for any other */
export function startRequest(entry: Entry, cause: Cause, mode: LoadMode = modeOf(cause), askedVersion = 0): void {
  const activity = entry.active();
  const { core } = entry.shelf;
  const how = cause !== "user" && entry.fits ? mode : "reload"; // rule F9: no cache on the way tells one user from another
  const forward = forwardReason(entry, nowOf(core));
  const request = new EntryRequest(new RequestOfEntry(entry), cause, how, forward, askedVersion);
  activity.request = request;
  core.underWay.add(entry);
  if (DEVELOPMENT && entry.held !== "none" && !entry.fits) warnOfOtherUser(core);
  activity.usersInARow = cause === "user" ? activity.usersInARow + 1 : 0;
  activity.requestedAt = nowOf(core);
  batch(core, () => {
    markDirty(entry);
    if (core.comingWithPage?.has(entry.key) || !entry.shelf.admits(entry, cause)) request.hold();
    else request.start();
  });
}

/** The host of an entry's request: its settings and callbacks. One object for each request. */
class RequestOfEntry implements RequestHost {
  readonly settings: RequestHost["settings"];
  readonly #entry: Entry;

  constructor(entry: Entry) {
    this.#entry = entry;
    const { settings } = entry.shelf;
    // A composite runs offline too: its dependencies wait, not the composite (rule R6).
    this.settings = entry.links?.dependencies.length ? { ...settings, usesNetwork: false } : settings;
  }

  get clock(): Clock {
    return this.#core.clock;
  }

  get checks(): boolean {
    return this.#entry.shelf.source.definition.check !== undefined;
  }

  get holdsValue(): boolean {
    return this.#entry.held === "value";
  }

  get #core(): Core {
    return this.#entry.shelf.core;
  }

  isOnline(): boolean {
    return isOnline(this.#entry.shelf);
  }

  nextVersion(): number {
    return ++this.#core.version;
  }

  load(request: EntryRequest): unknown {
    return load(this.#entry, request);
  }

  check(value: unknown): unknown {
    const { check } = this.#entry.shelf.source.definition;
    return check ? checked(check, value) : value;
  }

  /** Rule D6: a composite of something missing is missing too, unless its load catches that. */
  answerFor({ kind }: Failure): Answer<unknown> | undefined {
    return kind === "missing" ? missing() : undefined;
  }

  /** Rule D5: a failure of a dependency was tried again there. Rule R5: no reader is kept waiting for long. */
  retries(failure: Failure, delay: number): boolean {
    const { links, shelf } = this.#entry;
    if (links?.isOfDependency(failure) || !shelf.settings.retry.shouldRetry(failure)) return false;
    return delay <= longestWait || this.#entry.active().requestingWatchers > 0;
  }

  defer(call: () => void): void {
    afterChange(this.#core, call);
  }

  onPhase(request: EntryRequest): void {
    batch(this.#core, () => noteAttempt(this.#entry, request));
  }

  onAnswer(request: EntryRequest, answer: Answer<unknown>, open: boolean): void {
    batch(this.#core, () => takeAnswer(this.#entry, request, answer, open));
  }

  onStreamEnd(request: EntryRequest): void {
    batch(this.#core, () => noteStreamEnd(this.#entry, request));
  }

  onRetry(request: EntryRequest, failure: Failure, delay: number): void {
    batch(this.#core, () => noteRetry(this.#entry, request, failure, delay));
  }

  onFailure(request: EntryRequest, failure: Failure): void {
    batch(this.#core, () => takeFailure(this.#entry, request, failure));
  }
}

/** Those who wait for the request under way, begun now if there is none; for the next where it is already out of date. */
export function joinRequest(entry: Entry, cause: Cause, mode: LoadMode = modeOf(cause), askedVersion = 0): Waiters {
  const activity = entry.active();
  const { request } = activity;
  // An open stream is opened anew. A cache on the way may answer the request under way, but not a reload.
  if (request && (request.isOpen || (mode === "reload" && request.mode !== "reload")))
    abortRequest(entry, "it was asked for anew");
  if (!activity.request) startRequest(entry, cause, mode, askedVersion);
  else {
    activity.request.hasLatecomers = true;
    if (endsPauses.has(cause)) activity.request.hurry();
  }
  if (activity.request?.phase === "running" && activity.request.startVersion < lastChangeFor(entry)) {
    activity.nextWaiters ??= new Waiters();
    return activity.nextWaiters;
  }
  activity.waiters ??= new Waiters();
  return activity.waiters;
}

/** Whether a newcomer that may ask starts a request (rule F2). A failure is no reason to be content. */
export function wantsRequest(entry: Entry, now: number): boolean {
  if (entry.held === "none") return true;
  const standing = entry.standing(now);
  if (entry.activity?.isBrought && standing !== "invalidated") return false; // rule H2
  if ((standing === "stale" || entry.activity?.isDisplayed) && entry.isHeldByWrite) return false;
  if (standing === "stale") return entry.shelf.settings.triggers.includes("attach");
  return standing !== "fresh";
}

/** Ends the request under way, if any, because something newer takes its place; those who wait go on waiting. */
export function abortRequest(entry: Entry, note: string): void {
  const { activity } = entry;
  if (!activity?.request) return;
  const { request } = activity;
  clearRequest(entry);
  request.abort(new Failure("aborted", `The request was aborted: ${note}.`));
  record("abort", entry, request, note);
  markDirty(entry);
  if (activity.watchers === 0) scheduleRelease(entry); // unless another request begins in its place
}

/** Ends an open stream whose values are not for the present user. */
export function endForeignStream(entry: Entry): void {
  if (entry.isOpen && !entry.fits) abortRequest(entry, "it was opened for another user");
}

/** Requests a watched entry that is invalidated. An entry that a write is changing is requested when the write has ended (rule W1). */
export function requestIfWatched(entry: Entry): void {
  const { activity } = entry;
  if (!activity || activity.signedOut || (entry.waitsForWrite && !activity.request)) return;
  if (entry.isOpen) supersede(entry, undefined, "the stream is opened anew");
  if (activity.request) activity.request.hurry();
  else if (activity.requestingWatchers > 0) startRequest(entry, "invalidated");
}

/** Rule R2: a value that is put is newer than any answer under way. Those who wait for one get `outcome`, or go on waiting. */
export function supersede(entry: Entry, outcome: Outcome | undefined, note: string): void {
  if (!entry.isOpen || !outcome) abortRequest(entry, note);
  if (!outcome) return;
  if (entry.activity) entry.activity.usersInARow = 0; // the value is the present user's
  settleWaiters(entry, outcome, true);
}

/** A patched value is newer than a try under way: the try is begun anew, for all who wait for it. */
export function restartRequest(entry: Entry, note: string): void {
  const { request } = entry;
  if (!request || request.isOpen || request.phase !== "running") return;
  const { cause, mode, askedVersion, runsOn } = request;
  abortRequest(entry, note);
  startRequest(entry, cause, mode, askedVersion);
  if (runsOn) keepRunning(entry);
}

/** Gives the request up because it has no readers or watchers any more, or the cache ends. */
export function abandonRequest(entry: Entry, note: string): void {
  if (entry.isOpen) entry.leaveStream();
  abortRequest(entry, note);
  entry.links?.forgetReads();
  entry.links?.tellDependents();
  settleWaiters(
    entry,
    { failure: ofEntry(new Failure("aborted", `The request was aborted: ${note}.`), entry.key, 0) },
    true,
  );
}

/** Has the request under way go on without readers. */
export function keepRunning({ request }: Entry): void {
  if (request) request.runsOn = true;
}

// ── The callbacks of a request ───────────────────────────────────────────────

function noteAttempt(entry: Entry, request: EntryRequest): void {
  markDirty(entry);
  if (request.phase !== "running") return;
  request.tryStartedAt = nowOf(entry.shelf.core);
  if (request.isFormerUsers) request.mode = "reload"; // it is made for another user now (rule F9)
  request.isFormerUsers = false;
  record("request", entry, request);
}

function noteRetry(entry: Entry, request: EntryRequest, failure: Failure, delay: number): void {
  const activity = entry.active();
  request.isOpen = false;
  activity.failure = ofEntry(failure, entry.key, request.attempt);
  activity.failureCameWithValue = false;
  record("retry", entry, request, failure, delay);
  // Rule R5: watchers see the failure that it waits for. A reader is not kept waiting for long.
  if (delay > longestWait) settleWaiters(entry, failedOutcome(entry, activity.failure), true);
  markDirty(entry);
}

function takeAnswer(entry: Entry, request: EntryRequest, answer: Answer<unknown>, open: boolean): void {
  const { core } = entry.shelf;
  const { changedAt, isInvalidated } = entry;
  try {
    changeHeld(entry, () => applyAnswer(entry, answer, request.startVersion, nowOf(core)));
  } catch (thrown) {
    // The definition's own groups or share, or the answer's details: a mistake shown where it was made.
    if (open) request.abort(new Failure("aborted", "What the stream brought could not be taken."));
    takeFailure(entry, request, asFailure(thrown));
    return;
  }
  if (isInvalidated && entry.links) entry.links.wasInvalidatedAt = request.startVersion;
  if (!request.isOpen) invalidateIfChanged(entry, request);
  request.isOpen = open;
  if (!open) clearRequest(entry);
  entry.links?.takeDependencies(answer === dependenciesUnchanged);
  noteArrival(entry);
  entry.links?.tellDependents(entry.changedAt !== changedAt || isInvalidated ? "change" : "same");
  record("answer", entry, request, answer);
  if (!isForSomebodyElse(entry, request)) finishRequest(entry, request, outcomeOf(entry), isOutrun(entry));
  else {
    endForeignStream(entry);
    startRequest(entry, "user");
  }
}

/** A user who changes with each answer is asked for again so often. `headers` may say the time of day, which is another each time. */
const mostUsersInARow = 5;

/** Rule F9: another user asks by now. Where `headers` differ at each look, the user is unknown: then it is requested once more. */
function isForSomebodyElse(entry: Entry, { hasLatecomers }: EntryRequest, fitting = entry.fitting()): boolean {
  const activity = entry.active();
  if (fitting === true) activity.usersInARow = 0;
  if (DEVELOPMENT && fitting === "unsteady") warnOfUnknownUser(entry.shelf.core, entry.key);
  if (fitting === true || (!activity.isAwaited && activity.requestingWatchers === 0)) return false;
  return hasLatecomers || activity.usersInARow < (fitting === "unsteady" ? 1 : mostUsersInARow);
}

/** The same for a failure: another user asks by now, or two looks at who asks differ from each other. */
function fittingOfFailure({ params, shelf: { core, source } }: Entry, request: EntryRequest): boolean | "unsteady" {
  if (!request.isFormerUsers) return true;
  const now = notesNow(core, source, params) ?? {};
  return source.definition.fits?.(now, params, core.options.context) === "unsteady" && "unsteady";
}

/** Rule F3: a value that is stale when it comes, also through its dependencies, is shown as it came. */
export function noteArrival(entry: Entry): void {
  const { activity } = entry;
  if (!activity || activity.watchers === 0 || entry.held === "none" || entry.isInvalidated) return;
  if (entry.ageing(nowOf(entry.shelf.core)) === "fresh") return;
  // What must be revalidated could not be, since it was read (rule D2).
  if (entry.links?.dependencies.some(({ entry: part }) => part.mustRevalidate && part.activity?.failure)) return;
  activity.isDisplayed = true;
  activity.staleOnArrival = true;
  activity.announcedStanding = "expired";
}

function takeFailure(entry: Entry, request: EntryRequest, thrown: Failure): void {
  const activity = entry.active();
  const { core, source } = entry.shelf;
  const failure = ofEntry(thrown, entry.key, request.attempt);
  const wasToldOfDependency = entry.links?.isOfDependency(thrown);
  clearRequest(entry);
  entry.links?.discardReads(request.startVersion);
  record("failure", entry, request, failure);
  if (isForSomebodyElse(entry, request, fittingOfFailure(entry, request))) {
    startRequest(entry, "user");
    return;
  }
  if (refusesAccess(failure) && entry.held !== "none") forgetRefused(entry);
  activity.failure = failure;
  activity.failureCameWithValue = false;
  entry.links?.tellDependents("same");
  finishRequest(entry, request, failedOutcome(entry, failure));
  if (!wasToldOfDependency) tellFailure(core, failure, { source: source.name, key: entry.key, params: entry.params });
}

/** The user may not see the entry: its held value is forgotten. */
function forgetRefused(entry: Entry): void {
  changeHeld(entry, () => entry.forget());
  entry.links?.dropDependencies();
  entry.links?.tellDependents();
  record("delete", entry, "access was refused");
}

/** Who waits for an answer shows nothing yet. */
function failedOutcome(entry: Entry, failure: Failure): Outcome {
  const now = nowOf(entry.shelf.core);
  const facts = { standing: entry.standing(now), coversError: entry.covers(failure, now), isDisplayed: false };
  return entry.held === "value" && mayStandIn(facts) ? { failure, instead: { value: entry.value } } : { failure };
}

/** A stream has ended: its last answer is kept as a plain one. */
function noteStreamEnd(entry: Entry, request: EntryRequest): void {
  record("end", entry, request);
  clearRequest(entry);
  entry.links?.forgetReads();
  finishRequest(entry, request, outcomeOf(entry));
}

function clearRequest(entry: Entry): void {
  const activity = entry.active();
  if (activity.request) activity.request.isOpen = false;
  activity.request = undefined;
  entry.shelf.core.underWay.delete(entry);
}

/** Readers came after an invalidation, and the dependencies are others than the load has read: the invalidation may have been of these. */
function isOutrun({ activity, links }: Entry): boolean {
  return activity?.nextWaiters !== undefined && links !== undefined && links.current().dependencyStanding !== "none";
}

/** @param isOutrun whether latecomers wait for the next answer, as they do where the entry itself was invalidated */
function finishRequest(entry: Entry, request: EntryRequest, outcome: Outcome, isOutrun = false): void {
  const activity = entry.active();
  const isInvalidated = request.startVersion < entry.invalidatedAt;
  // All that a stream brings is as old as its opening.
  if (isInvalidated && request.isOpen) abortRequest(entry, "the stream is opened anew");
  const outdated = (isInvalidated || isOutrun) && !request.isOpen;
  request.runsOn = false; // also of a stream that goes on: its first value has come
  settleWaiters(entry, outcome, !outdated);
  markDirty(entry);
  // Rules R2, D1: an entry that was invalidated meanwhile is requested anew for latecomers, watchers, and wanted dependents.
  if (outdated && (activity.isAwaited || activity.requestingWatchers > 0 || entry.links?.isWantedAbove()))
    startRequest(entry, isInvalidated ? "invalidated" : "dependency");
  if (activity.watchers === 0) scheduleRelease(entry);
}

function settleWaiters(entry: Entry, outcome: Outcome, all: boolean): void {
  const { activity } = entry;
  if (!activity) return;
  const { waiters, nextWaiters } = activity;
  activity.waiters = all ? undefined : nextWaiters;
  activity.nextWaiters = undefined;
  waiters?.settle(outcome);
  if (all) nextWaiters?.settle(outcome);
}

/** Rule R5: the causes for which a pause between tries ends at once. */
const endsPauses: ReadonlySet<Cause> = new Set<Cause>(["manual", "invalidated", "visible", "online"]);

/** A request by hand, and one for an invalidated entry, is not to be answered by a cache on the way. */
function modeOf(cause: Cause): LoadMode {
  return cause === "manual" || cause === "invalidated" ? "no-cache" : "default";
}

/** RFC 9211 §2.2: the reason for a request: nothing is held, the caller wants a request, or the held value is stale. */
export function forwardReason(entry: Entry, now: number): Forward {
  if (entry.held === "none") return "miss";
  return entry.isFresh(now) ? "request" : "stale";
}
