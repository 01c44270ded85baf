/** One run of a write: its tries, its end, and the effects of the end on its layers and entries. Rules W1, W2, W4, O3. */
import { answer } from "../../api/answer.js";
import type { FailedAction, Selector } from "../../api/contract.js";
import { type Duration, milliseconds } from "../../api/duration.js";
import { Failure } from "../../api/failure.js";
import type { EventDetails, JournalKind } from "../../api/journal.js";
import { sendLater } from "../../api/seams.js";
import { type Retry, retryPlan } from "../../api/settings.js";
import type { RunOptions, SendContext, SendingPhase, Write } from "../../api/write-contract.js";
import { requestIfWatched } from "../../kernel/asking.js";
import { runCallback, tellFailure } from "../../kernel/failing.js";
import { changeUser } from "../../kernel/users.js";
import { resumeAfterWrites } from "../../kernel/watching.js";
import { onAbort } from "../../lib/abort.js";
import { guarded } from "../../lib/guarded.js";
import { Outbox, type Outgoing } from "../../lib/outbox.js";
import { Request } from "../../lib/request.js";
import { afterChange, batch } from "../../state/batches.js";
import { type Core, nowOf } from "../../state/core.js";
import type { Entry } from "../../state/entry.js";
import { tellChange } from "../changing/change-listeners.js";
import { markInvalidated } from "../changing/changing.js";
import { selected } from "../changing/selector.js";
import { invalidatedBy, invalidatedPerhaps } from "./invalidated.js";
import type { WriteLayers } from "./layers.js";

/** For one try of a write that says nothing of it. */
const usualTimeout: Duration = "2m";
/** A write does not wait for a longer pause than this, in milliseconds, whatever a server asks for (rule R5). */
const longestWait = 120_000;

/** A kept write is tried until it is answered. */
const untilAnswered: Retry = { times: Number.POSITIVE_INFINITY, firstPause: "1s", longestPause: "1m" };

/** How a run was begun, with its key. */
export interface BegunOptions extends RunOptions {
  readonly idempotencyKey: string;
}

/** Sends a change whose layers lie over the entries already; settles as `send` does (rule W4). */
export function runWrite(
  core: Core,
  write: Write<any, any>,
  input: unknown,
  options: BegunOptions,
  layers: WriteLayers,
): Promise<unknown> {
  core.outbox ??= new Outbox(core.environment);
  const run = new Run(core, core.outbox, write, input, options, layers);
  batch(core, () => run.begin());
  return run.promise;
}

/** One run of a write: its layers, its tries, its end. */
class Run implements Outgoing {
  readonly lane: string | undefined;
  readonly promise: Promise<unknown>;
  #resolve!: (result: unknown) => void;
  #reject!: (reason: unknown) => void;
  readonly #core: Core;
  readonly #outbox: Outbox;
  readonly #write: Write<any, any>;
  readonly #input: unknown;
  readonly #options: BegunOptions;
  readonly #layers: WriteLayers;
  /** Who runs it. */
  readonly #user: string | undefined;
  /** How many users had left when its request did (see `Core.usersLeft`); -1 where its own has left since. */
  #usersLeft = 0;
  /** The entries to invalidate, as `send` said. */
  readonly #invalidatedBySend: Selector[] = [];
  #request: Request | undefined;
  #phase: SendingPhase | undefined;
  /** A try ended without an answer that tells its outcome: the server may have done the change. */
  #mayHaveWorked = false;
  #startedAt = 0;
  /** Listens to the signal no longer. */
  #endAbort = (): void => {};

  constructor(
    core: Core,
    outbox: Outbox,
    write: Write<any, any>,
    input: unknown,
    options: BegunOptions,
    layers: WriteLayers,
  ) {
    const { lane } = write.definition;
    this.#core = core;
    this.#outbox = outbox;
    this.#write = write;
    this.#input = input;
    this.#options = options;
    this.#layers = layers;
    this.#user = this.#userNow();
    this.lane = typeof lane === "function" ? lane(input) : lane;
    this.promise = new Promise((resolve, reject) => {
      this.#resolve = resolve;
      this.#reject = reject;
    });
  }

  begin(): void {
    this.#startedAt = nowOf(this.#core);
    const { signal } = this.#options;
    if (signal) this.#endAbort = onAbort(signal, () => this.abort(signal.reason));
    this.#outbox.add(this);
  }

  hurry(): void {
    this.#request?.hurry();
  }

  waits(phase: SendingPhase, note: string): void {
    this.#move(phase, note);
  }

  /** Ends it from outside. */
  abort(reason: unknown): void {
    this.promise.catch(() => {}); // whoever gave it up knows
    if (reason === sendLater) {
      this.#leave();
      return;
    }
    const sent = !this.#core.disposed && this.#request !== undefined && this.#request.attempt > 0;
    this.#request?.abort(new Failure("aborted", "The write was aborted."));
    this.#end(
      () => this.#reject(reason),
      () => this.#onRefusal(sent),
      "aborted",
    );
  }

  /** Sent later, or by another tab: its layers stay. */
  #leave(): void {
    if (!this.#outbox.remove(this)) return;
    this.#endAbort();
    this.#request?.abort(new Failure("aborted", "The write is sent later, or by another tab."));
    this.#reject(sendLater);
    batch(this.#core, () => this.#outbox.makeWay(this));
  }

  send(): void {
    const core = this.#core;
    const { definition } = this.#write;
    const { retry, timeout, kept } = definition;
    const isKept = kept && core.keeper;
    const plan = retryPlan(isKept ? { ...untilAnswered, ...retry, times: Number.POSITIVE_INFINITY } : (retry ?? false));
    this.#request = new Request({
      clock: core.clock,
      settings: { usesNetwork: true, retry: plan, timeout: milliseconds(timeout ?? usualTimeout, "timeout") },
      isOnline: () => core.environment.online,
      nextVersion: () => ++core.version,
      holdsValue: false,
      load: async (request) => {
        this.#refuseOtherUser();
        return answer({ result: await definition.send(this.#input, this.#contextFor(request)) });
      },
      checks: false,
      check: (boxed) => boxed,
      answerFor: () => undefined,
      retries: (failure, delay) => plan.shouldRetry(failure) && delay <= longestWait,
      defer: (call) => afterChange(core, call),
      onPhase: () => this.#moved(),
      onAnswer: (_, { value }) => this.#answered((value as { result: unknown }).result),
      onStreamEnd: () => {},
      onRetry: ({ attempt }, failure, duration) => {
        this.#mayHaveWorked ||= mayHaveWorked(failure);
        this.#record("retry", { attempt, failure, duration });
        this.#move("waiting");
      },
      onFailure: (_, failure) => this.#failed(failure),
    });
    this.#request.start();
  }

  /** Rule O9, also of a write that is not kept: another user's credentials are not for it. */
  #refuseOtherUser(): void {
    this.#usersLeft = this.#core.usersLeft;
    if (this.#userNow() === this.#user) return;
    throw new Failure("aborted", "The write was run by another user than the one who asks now.");
  }

  /** Rule F9: its answer is not for the user who asks now. */
  get #hasUserLeft(): boolean {
    if (!this.#write.definition.user) return this.#core.usersLeft > this.#usersLeft;
    return this.#user !== undefined && this.#userNow() !== this.#user;
  }

  #userNow(): string | undefined {
    return this.#write.definition.user?.(this.#core.options.context);
  }

  #contextFor({ current: { signal }, attempt }: Request): SendContext {
    const invalidate = (selector: Selector) => void this.#invalidatedBySend.push(selector);
    const { context } = this.#core.options;
    const { idempotencyKey } = this.#options;
    const { now } = this.#core;
    const userChanged = (hasLeft: boolean) => changeUser(this.#core, hasLeft, this.#layers);
    const userLeft = () => {
      this.#usersLeft = -1;
    };
    const refuseOtherUser = () => this.#refuseOtherUser();
    return { signal, attempt, context, now, idempotencyKey, invalidate, userChanged, userLeft, refuseOtherUser };
  }

  #moved(): void {
    const request = this.#request;
    if (request?.phase === "running") this.#move("sending");
    else if (request?.phase === "offline") this.#move("offline", "waits for the network");
  }

  #move(phase: SendingPhase, note?: string): void {
    const attempt = this.#request?.attempt ?? 0;
    if (phase === "sending") this.#record("write", { attempt });
    else if (note && phase !== this.#phase) this.#record("write", { note });
    if (phase === this.#phase) return;
    this.#phase = phase;
    guarded(() => this.#options.onPhase?.(phase));
  }

  // ── Its end ────────────────────────────────────────────────────────────────

  #answered(result: unknown): void {
    this.#end(
      () => this.#resolve(result),
      () => this.#onSuccess(result),
    );
  }

  #failed(failure: Failure): void {
    const attempts = this.#request?.attempt ?? 0;
    const last = Object.isExtensible(failure) ? Object.assign(failure, { attempts }) : failure;
    this.#end(
      () => this.#reject(last),
      () => this.#onRefusal(this.#mayHaveWorked || mayHaveWorked(failure)),
      last,
    );
    tellFailure(this.#core, last, this.#action);
  }

  get #action(): FailedAction {
    return { write: this.#write.name, input: this.#input };
  }

  #end(settle: () => void, change: () => void, failure?: Failure | string): void {
    const core = this.#core;
    const layers = this.#layers;
    if (!this.#outbox.remove(this)) return;
    this.#endAbort();
    batch(core, () => {
      layers.settle(++core.version);
      if (failure instanceof Failure) this.#record("failure", { failure, duration: nowOf(core) - this.#startedAt });
      this.#record("settle", {
        duration: nowOf(core) - this.#startedAt,
        ...(typeof failure === "string" ? { note: failure } : failure ? { failure } : {}),
      });
      change();
      for (const entry of layers.entries) if (entry.activity?.layers?.pendingWrites === 0) resumeAfterWrites(entry);
    });
    settle();
    batch(core, () => this.#outbox.makeWay(this));
  }

  /** Rule W2: a layer stays until an answer tells the outcome of its write, so that no value flickers. */
  #onSuccess(result: unknown): void {
    const { definition } = this.#write;
    const core = this.#core;
    const layers = this.#layers;
    const selectors: Selector[] = [];
    this.#call(() => selectors.push(...invalidatedBy(this.#write, this.#input, result)));
    const invalidated = this.#invalidate([...this.#invalidatedBySend, ...selectors]);
    // A value that it puts is newer than the invalidation, so it is not requested again.
    if (!this.#hasUserLeft) this.#call(() => definition.onSuccess?.(result, this.#input, core.cache));
    for (const entry of layers.entries) {
      // A put above has taken it away already. An answer under way may still be of before: then it stays for that.
      if (entry.watchers === 0 && !entry.request) layers.removeFrom(entry, "lifted: settled");
    }
    for (const entry of invalidated) if (entry.isInvalidated || entry.activity?.failure) requestIfWatched(entry);
  }

  /** Its own layers go, and nothing else. */
  #onRefusal(mayHaveWorked: boolean): void {
    const layers = this.#layers;
    const perhaps = () => [...this.#invalidatedBySend, ...invalidatedPerhaps(this.#write, this.#input)];
    const invalidated = mayHaveWorked ? this.#invalidate(perhaps()) : [];
    for (const entry of layers.entries) layers.removeFrom(entry, "lifted: taken back");
    for (const entry of invalidated) requestIfWatched(entry);
  }

  /** The entries that it has layers over, and those that the selectors mean. */
  #invalidate(selectors: readonly Selector[]): Set<Entry> {
    const core = this.#core;
    const invalidated = new Set(this.#layers.entries);
    for (const selector of selectors) {
      this.#call(() => {
        for (const entry of selected(core, selector)) invalidated.add(entry);
      });
    }
    tellChange(core, { kind: "invalidate", selectors, entries: invalidated });
    for (const entry of invalidated) markInvalidated(entry, this.#write.name);
    return invalidated;
  }

  #call(callback: () => void): void {
    runCallback(this.#core, this.#action, callback);
  }

  #record(kind: JournalKind, details: EventDetails): void {
    this.#core.journal?.noteOther(kind, { write: this.#write.name, ...details });
  }
}

/**
 * Without an answer that could be read nobody knows. A redirection that was not followed does not tell (RFC 9110 §15.4), nor does a
 * gateway that the server did not answer in time or in form (§15.6.3, §15.6.5).
 */
function mayHaveWorked({ kind, status = 0 }: Failure): boolean {
  if (kind === "http") return status < 400 || status === 502 || status === 504;
  return kind === "network" || kind === "timeout" || kind === "shape";
}
