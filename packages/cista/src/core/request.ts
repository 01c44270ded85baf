import { type Answer, asAnswer } from "./answer.js";
import { asFailure, Failure } from "./failure.js";
import type { RequestPhase } from "./reading.js";
import type { Clock, Environment } from "./seams.js";
import type { Settings } from "./settings.js";

/** What a request needs of the cache. */
export interface RequestPlan {
  readonly clock: Clock;
  readonly environment: Environment;
  readonly settings: Settings;
  /** The next number of the cache's counter that only goes up. */
  nextVersion(): number;
  /** Whether a value is held that an answer could leave unchanged. */
  holds(): boolean;
  /** Calls the load once. May throw. */
  load(request: Request): unknown;
  /** Makes sure that the value is what the source promises. May throw, or take its time. */
  check(value: unknown): unknown;
}

/** What a request tells. After `answered` or `failed` it says nothing more, unless the answers keep coming. */
export interface RequestListener {
  /** `phase` or `attempt` has another value. */
  moved(request: Request): void;
  answered(request: Request, answer: Answer<unknown>): void;
  retrying(request: Request, failure: Failure, delay: number): void;
  failed(request: Request, failure: Failure): void;
}

/**
 * One request for one value: its tries, the pauses between them (rule R5), the wait for a network (R6), its end.
 * Knows nothing of keys and watchers.
 */
export class Request {
  phase: RequestPhase = "none";
  /** 1 for the first try. */
  attempt = 0;
  /** The version at which the try under way began: what was invalidated or put later is newer (rule R2). */
  began = 0;
  readonly #plan: RequestPlan;
  readonly #listener: RequestListener;
  /** Of the try under way. */
  #abort = new AbortController();
  /** The time-out of a try, or the pause before the next. */
  #timer: unknown;
  #over = false;

  constructor(plan: RequestPlan, listener: RequestListener) {
    this.#plan = plan;
    this.#listener = listener;
  }

  get signal(): AbortSignal {
    return this.#abort.signal;
  }

  start(): void {
    if (this.#plan.settings.usesNetwork && !this.#plan.environment.online) this.#move("offline");
    else this.#try();
  }

  /** Ends a pause between tries at once (rule R5); a wait for the network ends when there is one. */
  hurry(): void {
    if (this.phase === "waiting" || this.phase === "offline") {
      this.#clearTimer();
      this.start();
    }
  }

  /** Ends without an answer. Nobody is told: whoever aborts knows. */
  abort(reason: Failure): void {
    this.#over = true;
    this.phase = "none";
    this.#clearTimer();
    this.#abort.abort(reason);
  }

  #try(): void {
    const abort = new AbortController();
    this.#abort = abort;
    this.attempt++;
    this.began = this.#plan.nextVersion();
    this.#move("running");
    if (this.#plan.settings.timeout < Number.POSITIVE_INFINITY) {
      this.#timer = this.#plan.clock.setTimer(() => this.#timeOut(abort), this.#plan.settings.timeout);
    }
    this.#load().then(
      (answer) => {
        if (this.#ended(abort)) this.#finish(() => this.#listener.answered(this, answer));
      },
      (thrown) => {
        if (this.#ended(abort)) this.#fail(asFailure(thrown));
      },
    );
  }

  async #load(): Promise<Answer<unknown>> {
    const came = await this.#plan.load(this);
    const answer = asAnswer(came, this.#plan.holds());
    if (answer.kind !== "value") return answer;
    const value = await this.#plan.check(answer.value);
    return value === answer.value ? answer : { ...answer, value };
  }

  /** Whether this try is still the one that counts; if so, it has ended now. Late results of earlier tries end here. */
  #ended(abort: AbortController): boolean {
    if (this.#over || abort !== this.#abort || abort.signal.aborted) return false;
    this.#clearTimer();
    return true;
  }

  /** Also for a load that ignores its signal: the try is over for us, whatever it still does. */
  #timeOut(abort: AbortController): void {
    const { timeout } = this.#plan.settings;
    const failure = new Failure("timeout", `No answer came within ${timeout} ms (the source's timeout, for one try).`);
    this.#timer = undefined;
    abort.abort(failure);
    this.#fail(failure);
  }

  #fail(failure: Failure): void {
    const { retry } = this.#plan.settings;
    if (this.attempt > retry.times || !retry.when(failure)) {
      this.#finish(() => this.#listener.failed(this, failure));
      return;
    }
    // Full jitter under an exponential ceiling; what the server asked for wins (RFC 9110 §10.2.3).
    const ceiling = Math.min(retry.most, retry.first * 2 ** (this.attempt - 1));
    const delay = failure.retryAfter ?? this.#plan.clock.random() * ceiling;
    const again = () => {
      this.#timer = undefined;
      this.start();
    };
    this.#timer = this.#plan.clock.setTimer(again, delay, true);
    this.phase = "waiting";
    this.#listener.retrying(this, failure, delay);
  }

  #finish(tell: () => void): void {
    this.#over = true;
    this.phase = "none";
    tell();
  }

  #move(phase: RequestPhase): void {
    this.phase = phase;
    this.#listener.moved(this);
  }

  #clearTimer(): void {
    if (this.#timer !== undefined) this.#plan.clock.clearTimer(this.#timer);
    this.#timer = undefined;
  }
}
