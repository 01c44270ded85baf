/** What programs are written against: writes and their layers. */
import type { StandardSchema } from "./check.js";
import type { Cache, Selector, SourceSelector } from "./contract.js";
import type { Duration } from "./duration.js";
import type { Retry } from "./settings.js";
import type { ArgumentsOf, Source } from "./source-contract.js";

/** What a write may ask of the cache while it is sent. */
export interface SendContext {
  /** Aborted on `timeout`, when whoever runs it aborts, and when the cache is disposed of. Pass it on to `fetch`. */
  readonly signal: AbortSignal;
  /** 1 for the first try. */
  readonly attempt: number;
  /** What `createCache` was given as `context`. */
  readonly context: unknown;
  /** The cache's clock: milliseconds since the Unix epoch. */
  now(): number;
  /** One for each run, the same over its tries; unpredictable. */
  readonly idempotencyKey: string;
  /** What is no longer to be trusted: invalidated when the write has worked, and when nobody knows whether it has (rule W2). */
  invalidate(selector: Selector): void;
  /**
   * As in the context of a load.
   * @internal
   */
  userChanged?(): void;
}

/** One entry, for a layer to be laid over. */
export interface LayerTarget<T> {
  /** `change` returns the new value and leaves the old one as it is; it is applied anew to whatever comes in beneath. */
  patch(change: (value: T) => T): void;
}

/** Several entries, for a layer to be laid over each. */
export interface LayerTargets<P, T> {
  /** `change` returns the new value of one of them, or the old one where it does not concern it. It gets that entry's params. */
  patch(change: (value: T, params: P) => T): void;
}

/** Lays layers over entries. */
export interface LayerEditor {
  /** The entry of a source with these params. */
  at<P, T>(source: Source<P, T>, ...params: ArgumentsOf<NoInfer<P>>): LayerTarget<T>;
  /**
   * Every entry that holds a value now and is meant: of a source, or of a source with these among its params.
   * @example edit.each(walkers).patch((list) => ({ ...list, items: list.items.filter((each) => each.id !== id) }))
   */
  each<P, T>(selector: Source<P, T> | SourceSelector<P, T>): LayerTargets<P, T>;
}

export interface WriteDefinition<I, R> {
  /** For the journal. */
  name: string;
  /** Any asynchronous work. What it throws is a refusal, or a failure like any other. */
  send(input: I, context: SendContext): Promise<R>;
  /**
   * Lays one layer over each entry that it patches; lifted when the write settles. Best written to do nothing where its change
   * is already there.
   * @param run its key, as `send` is given it: unlike any other, so it can be the id of a row that has none yet
   */
  optimistic?(input: I, edit: LayerEditor, run: { readonly idempotencyKey: string }): void;
  /** Puts what the answer already tells into the cache. */
  onSuccess?(result: R, input: I, cache: Cache): void;
  /** What the write makes untrustworthy, beside the entries that it lies on. */
  invalidates?(input: I, result: R): Selector | readonly Selector[];
  /** Runs in one lane go one at a time, in order. Default: none. */
  lane?: string | ((input: I) => string);
  /** Default false: a write that was sent once may have worked. */
  retry?: Retry | false;
  /** For one try. Default "2m"; `Infinity` for none. */
  timeout?: Duration;
  /**
   * Where an outbox is open (`openOutbox` of `cista/browser`): stored before it is sent, and sent until it is answered, also
   * by a later page or another tab. Its name has to stay the same, and its input has to be data that can be stored. Default false.
   */
  kept?: boolean;
  /**
   * Who runs it, by an id: a try is made only while that user asks. undefined: nobody is signed in. What `writeTo` makes
   * has the `user` of its origin. Default: not asked.
   * @param context what `createCache` was given
   */
  user?(context: unknown): string | undefined;
  /** A Standard Schema of the input: what was stored, perhaps by another version of the program, is checked by it. */
  check?: StandardSchema<unknown, I>;
}

/** A change to be sent; defined once, run in any cache. */
export interface Write<I, R> {
  readonly name: string;
  readonly definition: WriteDefinition<I, R>;
}

/** How far a run has come: under way, or waiting for its turn or another try, or for the network. */
export type SendingPhase = "sending" | "waiting" | "offline";

export interface RunOptions {
  /** Ends the run. What had been sent may have worked: the entries that it lies on are asked about. */
  signal?: AbortSignal;
  /** Told each time that it goes on to another phase. */
  onPhase?(phase: SendingPhase): void;
  /** The same for all tries of one change, whoever sends them. Default: 128 random bits. */
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
