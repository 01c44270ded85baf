/** The contract for programs: writes and their layers. */
import type { StandardSchema } from "./check.js";
import type { Cache, Selector, SourceSelector } from "./contract.js";
import type { Duration } from "./duration.js";
import type { Retry } from "./settings.js";
import type { ArgumentsOf, Source } from "./source-contract.js";

/** The context of `send`. */
export interface SendContext {
  /** Is aborted on `timeout`, by the `signal` of the run, and when the cache is disposed of. Pass it on to `fetch`. */
  readonly signal: AbortSignal;
  /** 1 for the first try. */
  readonly attempt: number;
  /** The `context` of `createCache`. */
  readonly context: unknown;
  /** The cache's clock: milliseconds since the Unix epoch. */
  now(): number;
  /** One for each run, the same over its tries; unpredictable. */
  readonly idempotencyKey: string;
  /** Names entries that are invalidated when the write has worked, and when its outcome is unknown (rule W2). */
  invalidate(selector: Selector): void;
  /**
   * As in the context of a load.
   * @internal
   */
  userChanged?(hasLeft: boolean): void;
  /**
   * For the moment in which the answer has come: another user asks by now, also where that one has requested nothing yet.
   * @internal
   */
  userLeft?(): void;
  /**
   * For the moment before the request leaves: the credentials may have taken a while.
   * @throws Failure kind "aborted" where another user asks now than the one who ran the write
   * @internal
   */
  refuseOtherUser?(): void;
}

/** One entry, for a layer to be laid over. */
export interface LayerTarget<T> {
  /** `change` returns a new value and does not change the old one. It is applied again to each new answer beneath the layer. */
  patch(change: (value: T) => T): void;
}

/** Several entries, for a layer to be laid over each. */
export interface LayerTargets<P, T> {
  /** `change` gets the value and the params of one entry. It returns a new value, or the old one for no change. */
  patch(change: (value: T, params: P) => T): void;
}

/** Lays layers over entries. */
export interface LayerEditor {
  /** The entry of a source with these params. */
  at<P, T>(source: Source<P, T>, ...params: ArgumentsOf<NoInfer<P>>): LayerTarget<T>;
  /**
   * Every entry that the selector means and that holds a value now.
   * @example edit.each(walkers).patch((list) => ({ ...list, items: list.items.filter((each) => each.id !== id) }))
   */
  each<P, T>(selector: Source<P, T> | SourceSelector<P, T>): LayerTargets<P, T>;
}

export interface WriteDefinition<I, R> {
  /** For the journal. */
  name: string;
  /** Any asynchronous work. A throw is the failure of the write. */
  send(input: I, context: SendContext): Promise<R>;
  /**
   * Lays one layer over each entry that it patches. The layers go when the write settles. A change should do nothing where the
   * value has it already.
   * @param run its key, as `send` is given it: unlike any other, so it can be the id of a row that has none yet
   */
  optimistic?(input: I, edit: LayerEditor, run: { readonly idempotencyKey: string }): void;
  /** Puts values that the answer tells into the cache. Not called where another user asks by then (rule F9). */
  onSuccess?(result: R, input: I, cache: Cache): void;
  /**
   * Entries that the write invalidates, in addition to those beneath its layers. It is called without a result where it is not
   * known whether the write has worked (rule W2), and where another tab has sent it. An error that it throws then is ignored.
   */
  invalidates?(input: I, result: R): Selector | readonly Selector[];
  /** Runs of one lane are sent one at a time, in order. Default: no lane. */
  lane?: string | ((input: I) => string);
  /** Default false, since a write that was sent may have worked. */
  retry?: Retry | false;
  /** For one try. Default "2m"; `Infinity` for none. */
  timeout?: Duration;
  /**
   * True: where an outbox is open (`openOutbox` of `cista/browser`), a run is stored before it is sent, and is sent until it is
   * answered, also by a later page or another tab. Its name has to stay the same. Its input has to be data that can be cloned.
   * Default false.
   */
  kept?: boolean;
  /**
   * The id of the user; `undefined` where no user is signed in. A try is made only while the user who ran the write is this one.
   * A write of `writeTo` has the `user` of its origin. Default: users are not compared.
   * @param context the `context` of `createCache`
   */
  user?(context: unknown): string | undefined;
  /** A Standard Schema of the input. Stored inputs, perhaps of another version of the program, are checked by it. */
  check?: StandardSchema<unknown, I>;
}

/** A change to be sent; defined once, run in any cache. */
export interface Write<I, R> {
  readonly name: string;
  readonly definition: WriteDefinition<I, R>;
}

/** The phase of a run: being sent, waiting for its turn or another try, or waiting for the network. */
export type SendingPhase = "sending" | "waiting" | "offline";

export interface RunOptions {
  /** Ends the run. Since it may have worked, the entries beneath its layers and those of `invalidates` are revalidated. */
  signal?: AbortSignal;
  /** Is called at each change of the phase. */
  onPhase?(phase: SendingPhase): void;
  /** The same for all tries of one run, in every tab. Default: 128 random bits. */
  idempotencyKey?: string;
}

/** Params of `run`: the input first, then options. */
export type RunArguments<I> = 0 extends 1 & I
  ? [input?: any, options?: RunOptions]
  : [I] extends [void]
    ? [input?: undefined, options?: RunOptions]
    : unknown extends I
      ? [input?: I, options?: RunOptions]
      : [input: I, options?: RunOptions];
