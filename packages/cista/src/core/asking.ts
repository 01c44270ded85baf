import type { Answer } from "./answer.js";
import { checked } from "./check.js";
import type { Entry } from "./entry.js";
import { asFailure, Failure, ofEntry } from "./failure.js";
import { coversError } from "./freshness.js";
import { type Forward, forwardStatus } from "./journal.js";
import { type Keeping, labelsOf } from "./keeping.js";
import { missingFailure } from "./reading.js";
import { Request, type RequestPlan } from "./request.js";
import type { ArgumentsOf, Cause, LoadContext, LoadMode, Source } from "./source.js";
import { type Outcome, Waiters } from "./waiters.js";
import { record, type Wiring } from "./wiring.js";

/** One load, as those who stand around it see it. */
export interface LoadCall {
  readonly key: string;
  readonly source: string;
  readonly params: unknown;
  readonly context: LoadContext;
}
export type Around = (call: LoadCall, proceed: () => unknown) => unknown;

type ReadPart = (source: Source<any, any>, params: unknown, signal: AbortSignal) => Promise<unknown>;

/** When a request is begun, joined, followed by another or given up; and what its answer does to its entry. */
export class Asking {
  readonly #wiring: Wiring;
  readonly #keeping: Keeping;
  readonly #readPart: ReadPart;
  /** After a request ended on an entry that nobody watches. */
  readonly #unwanted: (entry: Entry) => void;
  #arounds: readonly Around[] = [];
  /** Those with a request. */
  readonly #underWay = new Set<Entry>();

  constructor(wiring: Wiring, keeping: Keeping, readPart: ReadPart, unwanted: (entry: Entry) => void) {
    this.#wiring = wiring;
    this.#keeping = keeping;
    this.#readPart = readPart;
    this.#unwanted = unwanted;
  }

  intercept(around: Around): () => void {
    const own: Around = (call, proceed) => around(call, proceed);
    this.#arounds = [...this.#arounds, own];
    return () => {
      this.#arounds = this.#arounds.filter((other) => other !== own);
    };
  }

  /** Begins a request; there must be none under way (rule R1). */
  start(entry: Entry, cause: Cause, mode: LoadMode = modeOf(cause)): void {
    const activity = entry.active();
    const forward = forwardReason(entry, mode);
    const request = new Request(this.#planOf(entry, forward), {
      moved: () => this.#wiring.notifier.turn(() => this.#moved(entry, request, forward)),
      answered: (_, answer) => this.#wiring.notifier.turn(() => this.#answered(entry, request, answer, forward)),
      retrying: (_, failure, delay) => this.#wiring.notifier.turn(() => this.#retrying(entry, request, failure, delay)),
      failed: (_, failure) => this.#wiring.notifier.turn(() => this.#failed(entry, request, failure)),
    });
    activity.request = request;
    this.#underWay.add(entry);
    activity.cause = cause;
    activity.mode = mode;
    activity.askedAt = this.#wiring.now();
    this.#keeping.file(entry);
    this.#wiring.notifier.turn(() => {
      this.#wiring.notifier.touch(entry);
      request.start();
    });
  }

  /** Those who wait for the request under way, begun now if there is none; for the next where it is already out of date. */
  join(entry: Entry, cause: Cause, mode: LoadMode = modeOf(cause)): Waiters {
    const activity = entry.active();
    if (activity.request && mode === "reload" && activity.mode !== "reload") {
      this.#drop(entry, "a reload was asked for"); // what is under way may be answered by a cache on the way
    }
    if (!activity.request) this.start(entry, cause, mode);
    else if (endsPauses.has(cause)) activity.request.hurry();
    if (entry.request && isOutdated(entry, entry.request)) {
      activity.nextWaiters ??= new Waiters();
      return activity.nextWaiters;
    }
    activity.waiters ??= new Waiters();
    return activity.waiters;
  }

  /** Ends every pause between tries, and every wait for a network that is back. */
  hurry(): void {
    for (const entry of [...this.#underWay]) entry.request?.hurry();
  }

  /** Ends the request under way, if any, because something newer takes its place; those who wait go on waiting. */
  #drop(entry: Entry, note: string): void {
    const { activity } = entry;
    if (!activity?.request) return;
    const { request } = activity;
    this.#over(entry);
    request.abort(new Failure("aborted", `The request was given up: ${note}.`));
    record(this.#wiring, "abort", entry, { cause: activity.cause, attempt: request.attempt, note });
    this.#wiring.notifier.touch(entry);
  }

  /** Rule R2: a value that was put is newer than any answer under way; those who wait for one get it. */
  supersede(entry: Entry, outcome: Outcome | undefined, note: string): void {
    this.#drop(entry, note);
    if (outcome) this.#settle(entry, outcome, true);
  }

  /** Gives the request up because nobody waits for it any more, or the cache ends. */
  giveUp(entry: Entry, note: string): void {
    this.#drop(entry, note);
    const failure = ofEntry(new Failure("aborted", `The request was given up: ${note}.`), entry.key, 0);
    this.#settle(entry, { failure }, true);
  }

  // ── One load ───────────────────────────────────────────────────────────────

  #planOf(entry: Entry, forward: Forward): RequestPlan {
    const { clock, environment } = this.#wiring;
    return {
      clock,
      environment,
      settings: entry.shelf.settings,
      nextVersion: () => this.#wiring.nextVersion(),
      holds: () => entry.held === "value",
      load: (request) => this.#load(entry, request, forward),
      check: (value) => {
        const { check } = entry.shelf.source.definition;
        return check ? checked(check, value) : value;
      },
    };
  }

  #load(entry: Entry, request: Request, forward: Forward): unknown {
    const { source } = entry.shelf;
    const { signal, attempt } = request;
    const { cause, mode } = entry.active();
    // A reload looks at nothing that is held (WHATWG Fetch).
    const held = entry.held === "value" && forward !== "request" ? heldOf(entry, this.#wiring.epoch) : undefined;
    const context: LoadContext = {
      signal,
      cause,
      attempt,
      mode,
      ...(held ? { held } : {}),
      read: <P, U>(part: Source<P, U>, ...[params]: ArgumentsOf<P>) =>
        this.#readPart(part, params, signal) as Promise<U>,
    };
    const call: LoadCall = { key: entry.key, source: source.name, params: entry.params, context };
    let proceed = (): unknown => source.definition.load(entry.params, context);
    for (const around of this.#arounds) {
      const inner = proceed;
      proceed = () => around(call, inner);
    }
    return proceed();
  }

  // ── What a request tells ───────────────────────────────────────────────────

  #moved(entry: Entry, request: Request, forward: Forward): void {
    const activity = entry.active();
    this.#wiring.notifier.touch(entry);
    if (request.phase !== "running") return;
    activity.triedAt = this.#wiring.now();
    record(this.#wiring, "request", entry, {
      cause: activity.cause,
      attempt: request.attempt,
      cacheStatus: forwardStatus(forward),
    });
  }

  #retrying(entry: Entry, request: Request, failure: Failure, delay: number): void {
    const { cause } = entry.active();
    entry.active().failure = ofEntry(failure, entry.key, request.attempt);
    record(this.#wiring, "retry", entry, { cause, attempt: request.attempt, failure, duration: delay });
    this.#keeping.file(entry);
    this.#wiring.notifier.touch(entry);
  }

  #answered(entry: Entry, request: Request, answer: Answer<unknown>, forward: Forward): void {
    const activity = entry.active();
    const before = labelsOf(entry);
    try {
      const now = this.#wiring.now();
      if (answer.kind === "unchanged") entry.freshen(answer.details, request.began, now);
      else entry.hold(answer.kind, answer.value, this.#labelled(entry, answer), request.began, now);
    } catch (thrown) {
      // The definition's own groups or share, or the answer's details: a mistake shown where it was made.
      this.#failed(entry, request, asFailure(thrown));
      return;
    }
    this.#keeping.relabel(entry, before);
    this.#over(entry);
    const stored = !entry.policy.noStore;
    const status = answer.details.status ?? (answer.kind === "unchanged" ? 304 : undefined);
    record(this.#wiring, answer.kind === "value" ? "answer" : answer.kind, entry, {
      cause: activity.cause,
      attempt: request.attempt,
      cacheStatus: forwardStatus(forward, { status, stored }),
      duration: this.#wiring.now() - activity.triedAt,
    });
    this.#end(entry, request, outcomeOf(entry));
  }

  #failed(entry: Entry, request: Request, thrown: Failure): void {
    const activity = entry.active();
    const failure = ofEntry(thrown, entry.key, request.attempt);
    this.#over(entry);
    activity.failure = failure;
    record(this.#wiring, "failure", entry, {
      cause: activity.cause,
      attempt: request.attempt,
      failure,
      duration: this.#wiring.now() - activity.triedAt,
    });
    // RFC 5861 §4: a stale value may be used in place of the answer; an invalidated one may not (rule F5).
    const covered =
      entry.held === "value" && !entry.isInvalidated && coversError(entry.policy, entry.age(this.#wiring.now()));
    this.#end(entry, request, { failure, instead: covered ? { value: entry.value } : undefined });
  }

  /** The answer's groups and the definition's own add up (rule F7). */
  #labelled(entry: Entry, answer: Answer<unknown>): Answer<unknown>["details"] {
    const { groups } = entry.shelf.source.definition;
    if (!groups || answer.kind !== "value") return answer.details;
    const own = groups(answer.value, entry.params);
    return { ...answer.details, groups: [...new Set([...(answer.details.groups ?? []), ...own])] };
  }

  #over(entry: Entry): void {
    entry.active().request = undefined;
    this.#underWay.delete(entry);
  }

  #end(entry: Entry, request: Request, outcome: Outcome): void {
    const activity = entry.active();
    const outdated = request.began < entry.invalidatedAt;
    activity.pinned = false;
    this.#settle(entry, outcome, !outdated);
    this.#wiring.notifier.touch(entry);
    this.#keeping.file(entry);
    if (outdated && (activity.waiters || activity.askers > 0)) {
      // Rule R2: what was invalidated meanwhile is asked for anew, for those who came after and those who watch.
      activity.pinned = activity.waiters !== undefined;
      this.start(entry, "invalidated");
    } else if (activity.watchers === 0) {
      this.#unwanted(entry);
    }
  }

  #settle(entry: Entry, outcome: Outcome, all: boolean): void {
    const { activity } = entry;
    if (!activity) return;
    const { waiters, nextWaiters } = activity;
    activity.waiters = all ? undefined : nextWaiters;
    activity.nextWaiters = undefined;
    waiters?.settle(outcome);
    if (all) nextWaiters?.settle(outcome);
  }
}

/** Rule R5: what somebody wants now does not wait for a pause between tries to end. */
const endsPauses: ReadonlySet<Cause> = new Set<Cause>(["asked", "invalidated", "visible", "online"]);

/** What is asked for, and what is no longer trusted, is not to be answered by a cache on the way. */
function modeOf(cause: Cause): LoadMode {
  return cause === "asked" || cause === "invalidated" ? "no-cache" : "default";
}

/** Whether the try under way began before the entry was invalidated. */
function isOutdated(entry: Entry, request: Request): boolean {
  return request.phase === "running" && request.began < entry.invalidatedAt;
}

/** RFC 9211 §2.2. */
function forwardReason(entry: Entry, mode: LoadMode): Forward {
  if (mode === "reload" || mode === "no-store") return "request";
  return entry.held === "none" ? "miss" : "stale";
}

function heldOf(entry: Entry, epoch: number): NonNullable<LoadContext["held"]> {
  const validator = entry.extra?.validator;
  return { value: entry.value, storedAt: epoch + entry.storedAt, ...(validator ? { validator } : {}) };
}

/** What those who wait get of what is held now. */
export function outcomeOf(entry: Entry): Outcome {
  return entry.held === "value" ? { value: entry.value } : { failure: missingFailure(entry.key) };
}
