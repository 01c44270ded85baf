/** One request: its tries, pauses, time-outs, and its stream of answers. Rules R5, R6, D7. */

import { type Answer, asAnswer } from "../api/answer.js";
import { wasChecked } from "../api/check.js";
import { asFailure, Failure } from "../api/failure.js";
import type { RequestPhase } from "../api/reading.js";
import type { Clock } from "../api/seams.js";
import type { Settings } from "../api/settings.js";
import { LazyAbort } from "./abort.js";

/** The host of a request: the settings and callbacks that it needs of the cache. */
export interface RequestHost {
  readonly clock: Clock;
  readonly settings: Pick<Settings, "usesNetwork" | "retry" | "timeout">;
  /** Whether there is a network now. */
  isOnline(): boolean;
  /** The next number of the cache's counter that only goes up. */
  nextVersion(): number;
  /** Whether a value is held that an answer could leave unchanged. */
  readonly holdsValue: boolean;
  /** Calls the load once. May throw. */
  load(request: Request): unknown;
  /** Whether `check` has something to look at. */
  readonly checks: boolean;
  /** Makes sure that the value is of the source's type. May throw, or take its time. */
  check(value: unknown): unknown;
  /** The answer that a failure amounts to, where it is none: nothing is tried again for it. */
  answerFor(failure: Failure): Answer<unknown> | undefined;
  /** Whether another try is to be made. @param delay the length of the pause before it, in milliseconds */
  retries(failure: Failure, delay: number): boolean;
  /** Runs foreign code, the load or the signal's listeners, once all that changes in the same go has changed. */
  defer(call: () => void): void;

  // After `onStreamEnd`, `onFailure`, or `onAnswer` with nothing open, it is told nothing more.
  /** `phase` or `attempt` has another value. */
  onPhase(request: Request): void;
  /** @param open more answers may follow */
  onAnswer(request: Request, answer: Answer<unknown>, open: boolean): void;
  /** A stream of answers has ended well. */
  onStreamEnd(request: Request): void;
  onRetry(request: Request, failure: Failure, delay: number): void;
  onFailure(request: Request, failure: Failure): void;
}

/**
 * One request for one value, or for a stream of them: its tries, the pauses between them (rule R5), the wait for a
 * network (R6), its end. Knows nothing of keys and watchers.
 */
export class Request {
  phase: RequestPhase = "none";
  /** 1 for the first try. */
  attempt = 0;
  /** The version at which the try under way began: a later invalidation or put is newer (rule R2). */
  startVersion = 0;
  readonly #host: RequestHost;
  /** The signal of the try under way, or of the first. */
  #abort = new LazyAbort();
  /** The time-out of a try, or the pause before the next. */
  #timer: unknown;
  /** The milliseconds left of the time-out, and since when they count; a time-out that stands still has no timer. */
  #left = 0;
  #since = 0;
  #pauses = 0;
  /** When the try under way began, and whether its stream has brought a value. */
  #triedAt = 0;
  #streamed = false;
  #isStream = false;
  #held = false;
  #over = false;

  constructor(host: RequestHost) {
    this.#host = host;
  }

  /** Ends the try under way. */
  get current(): LazyAbort {
    return this.#abort;
  }

  start(): void {
    if (this.#over) return;
    this.#held = false;
    if (this.#host.settings.usesNetwork && !this.#host.isOnline()) this.#move("offline");
    else this.#try();
  }

  /** Waits until its owner starts it. */
  hold(): void {
    this.#held = true;
    this.#move("waiting");
  }

  /** Ends a pause between tries at once (rule R5); a wait for the network ends when there is one. */
  hurry(): void {
    if (this.#held || (this.phase !== "waiting" && this.phase !== "offline")) return;
    this.#clearTimer();
    this.start();
  }

  /** Ends without an answer, and without a callback: the caller knows. */
  abort(reason: Failure): void {
    const { phase } = this;
    this.#over = true;
    this.phase = "none";
    this.#clearTimer();
    const abort = this.#abort;
    if (phase === "running" || phase === "none") this.#host.defer(() => abort.abort(reason)); // else no load is under way
  }

  get isOver(): boolean {
    return this.#over;
  }

  // ── The time-out stands still while the load waits for its dependencies (rule D5) ──

  /** @returns a function that lets it go on; harmless once another try has begun, or when called again */
  pauseTimeout(): () => void {
    const abort = this.#abort;
    if (this.#pauses++ === 0 && this.#timer !== undefined) {
      this.#left -= Math.min(this.#left, Math.max(0, this.#host.clock.now() - this.#since));
      this.#clearTimer();
    }
    let resumed = false;
    return () => {
      if (resumed || abort !== this.#abort) return;
      resumed = true;
      if (--this.#pauses === 0 && this.phase === "running") this.#limit(this.#host.clock.now());
    };
  }

  #limit(now: number): void {
    if (this.#left === Number.POSITIVE_INFINITY || this.#pauses > 0) return;
    this.#since = now;
    const abort = this.#abort;
    this.#timer = this.#host.clock.setTimer(() => this.#timeOut(abort), this.#left, true);
  }

  // ── One try ────────────────────────────────────────────────────────────────

  #try(): void {
    if (this.attempt++ > 0) this.#abort = new LazyAbort();
    const abort = this.#abort;
    this.startVersion = this.#host.nextVersion();
    this.#left = this.#host.settings.timeout;
    this.#pauses = 0;
    this.#triedAt = this.#host.clock.now();
    this.#streamed = false;
    this.#isStream = false;
    this.#move("running");
    if (abort !== this.#abort || this.#over) return; // a listener has thought better of it
    this.#limit(this.#triedAt);
    this.#host.defer(() => {
      if (this.#over || abort !== this.#abort || abort.isAborted) return; // ended before it began
      this.#load(abort);
    });
  }

  #load(abort: LazyAbort): void {
    const failed = (thrown: unknown) => this.#takeFailure(thrown, abort);
    this.#called().then((came) => {
      try {
        this.#take(came, abort)?.catch(failed);
      } catch (thrown) {
        failed(thrown);
      }
    }, failed);
  }

  /** An error that the load throws at once is a failure like a later one: it is not told before the request has begun. */
  #called(): Promise<unknown> {
    try {
      return Promise.resolve(this.#host.load(this));
    } catch (thrown) {
      return Promise.reject(thrown);
    }
  }

  /** Without a promise where there is nothing to wait for: each takes its turn of the event loop. */
  #take(came: unknown, abort: LazyAbort): void | Promise<void> {
    if (isIterable(came)) return this.#follow(came, abort);
    const answer = asAnswer(came, this.#host.holdsValue);
    if (this.#isToCheck(answer)) return this.#checked(answer).then((checked) => this.#answered(checked, abort));
    this.#answered(answer, abort);
  }

  #answered(answer: Answer<unknown>, abort: LazyAbort): void {
    if (!this.#counts(abort)) return;
    if (answer.details.from !== undefined) this.startVersion = this.#host.nextVersion();
    this.#finish(() => this.#host.onAnswer(this, answer, false));
  }

  #takeFailure(thrown: unknown, abort: LazyAbort): void {
    if (!this.#counts(abort)) return;
    const failure = asFailure(thrown);
    const answer = this.#host.answerFor(failure);
    if (answer) this.#finish(() => this.#host.onAnswer(this, answer, false));
    else this.#fail(failure);
  }

  /** Every value that a stream yields is an answer; the time-out counts for the first only. However it ends, it is closed. */
  async #follow(stream: AsyncIterable<unknown>, abort: LazyAbort): Promise<void> {
    this.#isStream = true;
    const iterator = stream[Symbol.asyncIterator]();
    let ended = false;
    const close = () => {
      if (!ended) void closed(iterator);
      ended = true;
    };
    // The generator may be waiting for an event that never comes: it is told to end, and not waited for.
    const { signal } = abort;
    if (signal.aborted) close();
    else signal.addEventListener("abort", close, { once: true });
    try {
      for (let next = await iterator.next(); !next.done; next = await iterator.next()) {
        let answer = asAnswer(next.value, this.#host.holdsValue);
        if (this.#isToCheck(answer)) answer = await this.#checked(answer);
        if (!this.#counts(abort)) return;
        this.#streamAnswered(answer);
      }
      ended = true;
    } finally {
      signal.removeEventListener("abort", close);
      close();
    }
    if (!this.#counts(abort)) return;
    if (!this.#streamed) {
      throw new Failure("no-value", "The stream ended before its first value.", { retryable: true });
    }
    this.#finish(() => this.#host.onStreamEnd(this));
  }

  #streamAnswered(answer: Answer<unknown>): void {
    if (this.#streamed || answer.details.from !== undefined) this.startVersion = this.#host.nextVersion();
    this.#streamed = true;
    // A stream that breaks after it has held for longer than a pause is tried again from the beginning.
    if (this.#host.clock.now() - this.#triedAt >= this.#longestPause()) this.attempt = 1;
    this.phase = "none";
    this.#host.onAnswer(this, answer, true);
  }

  #isToCheck(answer: Answer<unknown>): boolean {
    return this.#host.checks && answer.kind === "value" && !wasChecked(answer);
  }

  async #checked(answer: Answer<unknown>): Promise<Answer<unknown>> {
    const value = await this.#host.check(answer.value);
    return value === answer.value ? answer : { ...answer, value };
  }

  /** Whether this try is still the one that counts; if so, its time-out has ended. Late results of earlier tries end here. */
  #counts(abort: LazyAbort): boolean {
    if (this.#over || abort !== this.#abort || abort.isAborted) return false;
    this.#clearTimer();
    return true;
  }

  /** Ends a try whose time is over, also for a load that ignores its signal. */
  #timeOut(abort: LazyAbort): void {
    const { timeout } = this.#host.settings;
    const failure = new Failure("timeout", `No answer came within ${timeout} ms (the source's timeout, for one try).`);
    this.#timer = undefined;
    this.#fail(failure);
    abort.abort(failure);
  }

  #fail(failure: Failure): void {
    const { retry } = this.#host.settings;
    let last = failure;
    let again = this.attempt <= retry.times;
    const delay = again ? this.#delayAfter(failure) : 0;
    try {
      again &&= this.#host.retries(failure, delay);
    } catch (thrown) {
      again = false;
      last = asFailure(thrown); // the definition's own mistake is shown, not lost
    }
    if (this.#over) return; // the definition has ended it
    // A stream that waits for its next event hears of its end by its signal only.
    const abort = this.#abort;
    if (this.#isStream) this.#host.defer(() => abort.abort(failure));
    if (again) this.#pauseThenTry(failure, delay);
    else this.#finish(() => this.#host.onFailure(this, last));
  }

  /** Full jitter under an exponential ceiling; the server's Retry-After wins (RFC 9110 §10.2.3). */
  #delayAfter({ retryAfter }: Failure): number {
    if (retryAfter !== undefined && !this.#streamed) return retryAfter;
    const delay = this.#host.clock.random() * this.#longestPause();
    // A stream says once how long to wait (HTML §9.2); where it breaks again and again, the pauses grow all the same.
    return Math.max(delay, retryAfter ?? 0);
  }

  #longestPause(): number {
    const { longestPause, firstPause } = this.#host.settings.retry;
    return Math.min(longestPause, firstPause * 2 ** (this.attempt - 1));
  }

  #pauseThenTry(failure: Failure, delay: number): void {
    const start = () => {
      this.#timer = undefined;
      this.start();
    };
    this.#timer = this.#host.clock.setTimer(start, delay, true);
    this.phase = "waiting";
    this.#host.onRetry(this, failure, delay);
  }

  #finish(tell: () => void): void {
    this.#over = true;
    this.phase = "none";
    tell();
  }

  #move(phase: RequestPhase): void {
    this.phase = phase;
    this.#host.onPhase(this);
  }

  #clearTimer(): void {
    if (this.#timer !== undefined) this.#host.clock.clearTimer(this.#timer);
    this.#timer = undefined;
  }
}

/** Whether a load has brought a stream of answers. */
export function isIterable(came: unknown): came is AsyncIterable<unknown> {
  return typeof came === "object" && came !== null && Symbol.asyncIterator in came;
}

/** Tells a stream to end. An error of it is ignored then: its answers are not wanted any more. */
async function closed(iterator: AsyncIterator<unknown>): Promise<void> {
  try {
    await iterator.return?.();
  } catch {}
}
