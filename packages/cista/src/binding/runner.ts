/** The runs of one write in one component, and how they stand. Rule E1. */

import { asFailure } from "../core/doors/answers.js";
import {
  type Cache,
  Failure,
  type RunArguments,
  type RunOptions,
  type SendingPhase,
  type Write,
} from "../core/index.js";

/** How the runs of one write stand, as one component has begun them. */
export interface WriteStatus<R> {
  /** While runs are under way, the phase of the one begun last. Then "failed" until the failure is put away; else "done", or "none". */
  readonly phase: "none" | SendingPhase | "done" | "failed";
  /** How many runs are under way. */
  readonly underWay: number;
  /** Of the run that was done last. */
  readonly result?: R;
  /** Of the run that failed last: until `reset`, or until a run that was begun after it is done. */
  readonly failure?: Failure;
  /** Puts away the failure and the result. Runs under way go on. */
  readonly reset: () => void;
  /** Ends the runs under way. A run that had been sent may have worked: the entries that it lies on are requested. */
  readonly abort: () => void;
}

/** The result of one run. */
export type WriteResult<R> =
  | { readonly phase: "done"; readonly result: R; readonly failure?: undefined }
  | { readonly phase: "failed"; readonly result?: undefined; readonly failure: Failure };

/** Runs a write. Resolves with its result and never rejects. `cache.run` rejects. */
export type RunWrite<I, R> = (...input: RunArguments<I>) => Promise<WriteResult<R>>;

/** Runs a write for one component, and tells how its runs stand. */
export class Runner<I, R> {
  readonly #write: Write<I, R>;
  readonly #changed: (status: WriteStatus<R>) => void;
  readonly #underWay: Set<AbortController> = new Set();
  #begun = 0;
  #phase: SendingPhase = "sending";
  /** The last success and the last failure: how many runs had been begun by then. */
  #done: { readonly result: R } | undefined;
  #failed: { readonly failure: Failure; readonly begun: number } | undefined;
  status: WriteStatus<R>;

  /** @param changed told of each status that follows */
  constructor(write: Write<I, R>, changed: (status: WriteStatus<R>) => void) {
    this.#write = write;
    this.#changed = changed;
    this.status = this.#statusNow();
  }

  readonly reset = (): void => {
    this.#done = this.#failed = undefined;
    this.#tell();
  };

  readonly abort = (): void => {
    for (const own of this.#underWay) own.abort();
  };

  /** `run` as a component calls it. @param cache asked at each run */
  runIn(cache: () => Cache): RunWrite<I, R> {
    const run = (input?: I, options?: RunOptions) => this.run(cache(), input, options);
    return run as RunWrite<I, R>;
  }

  async run(cache: Cache, input?: I, { signal, onPhase }: RunOptions = {}): Promise<WriteResult<R>> {
    const own = new AbortController();
    const number = ++this.#begun;
    this.#underWay.add(own);
    const move = (phase: SendingPhase) => {
      if (number === this.#begun) this.#phase = phase;
      this.#tell();
    };
    move("sending"); // at once, also while what sends it is still being loaded
    const options: RunOptions = {
      signal: signal ? AbortSignal.any([signal, own.signal]) : own.signal,
      onPhase: (phase) => {
        move(phase);
        onPhase?.(phase);
      },
    };
    const outcome = await outcomeOf<R>(cache.run<any, R>(this.#write as Write<any, R>, input, options), options.signal);
    this.#underWay.delete(own);
    if (outcome.phase === "done") {
      this.#done = outcome;
      if (this.#failed && this.#failed.begun < number) this.#failed = undefined;
    } else if (outcome.failure.kind !== "aborted") {
      this.#failed = { failure: outcome.failure, begun: this.#begun };
    }
    this.#tell();
    return outcome;
  }

  #tell(): void {
    this.status = this.#statusNow();
    this.#changed(this.status);
  }

  #statusNow(): WriteStatus<R> {
    const underWay = this.#underWay.size;
    const ended = this.#failed ? "failed" : this.#done ? "done" : "none";
    return {
      phase: underWay > 0 ? this.#phase : ended,
      underWay,
      ...(this.#done && !this.#failed ? { result: this.#done.result } : {}),
      ...(this.#failed ? { failure: this.#failed.failure } : {}),
      reset: this.reset,
      abort: this.abort,
    };
  }
}

async function outcomeOf<R>(run: Promise<R>, signal: AbortSignal | undefined): Promise<WriteResult<R>> {
  try {
    return { phase: "done", result: await run };
  } catch (thrown) {
    const failure = signal?.aborted
      ? new Failure("aborted", "The write was aborted.", { cause: thrown })
      : asFailure(thrown);
    return { phase: "failed", failure };
  }
}
