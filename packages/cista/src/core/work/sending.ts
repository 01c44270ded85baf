import { onAbort } from "../ground/abort.js";
import { answer } from "../ground/answer.js";
import type { RunOptions, Selector, SendContext, SendingPhase, Write } from "../ground/contract.js";
import { type Duration, milliseconds } from "../ground/duration.js";
import { Failure } from "../ground/failure.js";
import { type EventDetails, guarded, type JournalKind } from "../ground/journal.js";
import { Outbox, type Outgoing } from "../ground/outbox.js";
import { Request } from "../ground/request.js";
import { retryPlan } from "../ground/settings.js";
import type { Laid } from "../state/activity.js";
import { type Core, nowOf } from "../state/core.js";
import { afterChange, turn } from "../state/turns.js";
import { askWatched, distrust } from "./changing.js";
import { liftOwn } from "./layers.js";
import { selected } from "./selector.js";
import { catchUp } from "./watching.js";

/** For one try of a write that says nothing of it. */
const usualTimeout: Duration = "2m";
/** A write does not wait for a longer pause than this, in milliseconds, whatever a server asks for (rule R5). */
const longestWait = 120_000;

/** Sends a change whose layers are laid; settles as `send` does (rule W4). */
export function runWrite(
  core: Core,
  write: Write<any, any>,
  input: unknown,
  options: RunOptions,
  laid: Laid,
): Promise<unknown> {
  core.outbox ??= new Outbox(core.environment);
  const run = new Run(core, core.outbox, write, input, options, laid);
  laid.isSent = true;
  turn(core, () => run.begin());
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
  readonly #options: RunOptions;
  readonly #idempotencyKey: string;
  readonly #laid: Laid;
  /** What the answer said is no longer to be trusted. */
  readonly #said: Selector[] = [];
  #request: Request | undefined;
  #phase: SendingPhase | undefined;
  #startedAt = 0;
  /** Listens to the signal no longer. */
  #endAbort = (): void => {};

  constructor(core: Core, outbox: Outbox, write: Write<any, any>, input: unknown, options: RunOptions, laid: Laid) {
    const { lane } = write.definition;
    this.#core = core;
    this.#outbox = outbox;
    this.#write = write;
    this.#input = input;
    this.#options = options;
    this.#laid = laid;
    this.#idempotencyKey = core.clock.uniqueText();
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
    const sent = !this.#core.disposed && this.#request !== undefined && this.#request.attempt > 0;
    this.#request?.abort(new Failure("aborted", "The write was given up."));
    this.#end(
      () => this.#reject(reason),
      () => this.#refused(sent),
      "aborted",
    );
  }

  send(): void {
    const core = this.#core;
    const { definition } = this.#write;
    const { retry, timeout } = definition;
    const plan = retryPlan(retry ?? false);
    this.#request = new Request(
      {
        clock: core.clock,
        online: () => core.environment.online,
        settings: {
          usesNetwork: true,
          retry: plan,
          timeout: milliseconds(timeout ?? usualTimeout, "timeout"),
        },
        nextVersion: () => ++core.version,
        holds: () => false,
        load: async (request) => answer({ result: await definition.send(this.#input, this.#contextFor(request)) }),
        check: (boxed) => boxed,
        retries: (failure, delay) => plan.when(failure) && delay <= longestWait,
        defer: (call) => afterChange(core, call),
      },
      {
        moved: () => this.#moved(),
        answered: ({ value }) => this.#answered((value as { result: unknown }).result),
        ended: () => {},
        retrying: (failure, duration) => {
          this.#record("retry", { attempt: this.#request?.attempt ?? 1, failure, duration });
          this.#move("waiting");
        },
        failed: (failure) => this.#failed(failure),
      },
    );
    this.#request.start();
  }

  #contextFor({ signal, attempt }: Request): SendContext {
    const invalidate = (selector: Selector) => void this.#said.push(selector);
    const { context } = this.#core.options;
    return { signal, attempt, context, idempotencyKey: this.#idempotencyKey, invalidate };
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
      () => this.#worked(result),
    );
  }

  #failed(failure: Failure): void {
    const attempts = this.#request?.attempt ?? 0;
    const last = Object.isExtensible(failure) ? Object.assign(failure, { attempts }) : failure;
    this.#end(
      () => this.#reject(last),
      () => this.#refused(mayHaveWorked(failure)),
      last,
    );
  }

  #end(settle: () => void, change: () => void, failure?: Failure | string): void {
    const core = this.#core;
    const laid = this.#laid;
    if (!this.#outbox.remove(this)) return;
    this.#endAbort();
    turn(core, () => {
      laid.settle(++core.version);
      this.#record("settle", {
        duration: nowOf(core) - this.#startedAt,
        ...(typeof failure === "string" ? { note: failure } : failure ? { failure } : {}),
      });
      change();
      for (const entry of laid.entries) if (entry.activity?.pendingWrites.size === 0) catchUp(entry);
    });
    settle();
    if (!core.disposed) turn(core, () => this.#outbox.makeWay(this));
  }

  /** Rule W2: a layer stays until an answer tells what came of its write; nothing flickers back in between. */
  #worked(result: unknown): void {
    const { definition, name } = this.#write;
    const core = this.#core;
    const laid = this.#laid;
    const selectors = [...this.#said];
    guarded(() => selectors.push(...listOf(definition.invalidates?.(this.#input, result))));
    const distrusted = new Set(laid.entries);
    for (const selector of selectors) {
      guarded(() => {
        for (const entry of selected(core, selector)) distrusted.add(entry);
      });
    }
    for (const entry of distrusted) distrust(entry, name);
    // What it puts is newer than the distrust, so it is not asked for again.
    guarded(() => definition.settle?.(result, this.#input, core.cache));
    for (const entry of laid.entries) {
      const told = entry.version > laid.settledAt && !entry.isInvalidated;
      // An answer under way may still be of before: then it stays for that too.
      if (told || (entry.watchers === 0 && !entry.request)) liftOwn(entry, laid, "lifted: settled");
    }
    for (const entry of distrusted) if (entry.isInvalidated) askWatched(entry);
  }

  /** Its own layers go, and nothing else. */
  #refused(mayHaveWorked: boolean): void {
    const laid = this.#laid;
    for (const entry of laid.entries) {
      liftOwn(entry, laid, "lifted: taken back");
      if (!mayHaveWorked) continue;
      distrust(entry, laid.name);
      askWatched(entry);
    }
  }

  #record(kind: JournalKind, details: EventDetails): void {
    const { recorder } = this.#core;
    if (recorder.hears(kind)) recorder.record(kind, { write: this.#write.name, ...details });
  }
}

/** Without an answer that could be read nobody knows; nor does a redirection that was not followed tell (RFC 9110 §15.4). */
function mayHaveWorked({ kind, status }: Failure): boolean {
  return kind === "network" || kind === "timeout" || kind === "shape" || (kind === "http" && (status ?? 0) < 400);
}

function listOf(selectors: Selector | readonly Selector[] | undefined): readonly Selector[] {
  if (selectors === undefined) return [];
  return Array.isArray(selectors) ? selectors : [selectors as Selector];
}
