import type { Cache } from "./contract.js";
import { type Core, refuseDisposed, turn } from "./core.js";
import type { Duration } from "./duration.js";
import { CistaError, shown } from "./failure.js";
import { layAll, lift } from "./layers.js";
import type { Selector } from "./selector.js";
import { runWrite } from "./sending.js";
import type { Retry, Source } from "./source.js";

/** What a write may ask of the cache while it is sent. */
export interface SendContext {
  /** Aborted on `timeout`, when whoever runs it aborts, and when the cache is disposed of. Pass it on to `fetch`. */
  readonly signal: AbortSignal;
  /** 1 for the first try. */
  readonly attempt: number;
  /** One for each run, the same over its tries. */
  readonly idempotencyKey: string;
  /** What the answer says is no longer to be trusted: invalidated when the write has worked. */
  invalidate(selector: Selector): void;
}

/** Lays layers over entries. */
export interface LayerEditor {
  /** `change` returns the new value and leaves the old one as it is; it is applied anew to whatever comes in beneath. */
  patch<P, T>(source: Source<P, T>, params: P, change: (value: T) => T): void;
}

export interface WriteDefinition<I, R> {
  /** For the journal. */
  name: string;
  /** Any asynchronous work. What it throws is a refusal, or a failure like any other. */
  send(input: I, context: SendContext): Promise<R>;
  /** Lays one layer over each entry that it patches; lifted when the write settles. Best written to do nothing where its change is already there. */
  optimistic?(input: I, edit: LayerEditor): void;
  /** Puts what the answer already tells into the cache. */
  settle?(result: R, input: I, cache: Cache): void;
  /** What the write makes untrustworthy, beside the entries that it lies on. */
  invalidates?(input: I, result: R): Selector | readonly Selector[];
  /** Runs in one lane go one at a time, in order. Default: none. */
  lane?: string | ((input: I) => string);
  /** Default false: a write that was sent once may have worked. */
  retry?: Retry | false;
  /** For one try. Default: none. */
  timeout?: Duration;
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
}

/** Params of `run`: the input first, then options. */
export type RunArguments<I> = 0 extends 1 & I
  ? [input?: any, options?: RunOptions]
  : [I] extends [void]
    ? [input?: undefined, options?: RunOptions]
    : unknown extends I
      ? [input?: I, options?: RunOptions]
      : [input: I, options?: RunOptions];

/** A write brings what sends it: programs without writes do not carry that along. */
const sending: unique symbol = Symbol.for("cista.sending") as never;
type Sender = typeof runWrite;
type Bringing = { readonly [sending]?: () => Sender | Promise<Sender> };

/**
 * Says once how a kind of change is sent, what it shows at once, and what it makes untrustworthy. Starts nothing.
 * @throws CistaError code "write": a name or `send` that cannot be
 */
export function write<I = void, R = unknown>(definition: WriteDefinition<I, R>): Write<I, R> {
  return writeBy(() => runWrite, definition);
}

/**
 * The same, with what sends it loaded only where a write is defined.
 * @internal
 */
export function writeBy<I, R>(sender: () => Sender | Promise<Sender>, definition: WriteDefinition<I, R>): Write<I, R> {
  const { name, send } = definition;
  if (typeof name !== "string" || name === "") {
    throw new CistaError("write", `A write's name is text, such as "book", but it is ${shown(name)}.`);
  }
  if (typeof send !== "function") {
    throw new CistaError("write", `The write "${name}" needs a send function, but send is ${shown(send)}.`);
  }
  return Object.freeze({ name, definition: Object.freeze({ ...definition }), [sending]: sender });
}

/** @throws CistaError code "write" for what `write()` has not made */
export function run(core: Core, write: Write<any, any>, input: unknown, options: RunOptions = {}): Promise<unknown> {
  const sender = (write as Bringing | undefined)?.[sending];
  if (!sender) throw new CistaError("write", `run takes what write() has made, but it got ${shown(write)}.`);
  if (options.signal?.aborted) return Promise.reject(options.signal.reason);
  const laid = layAll(core, write, input);
  const send = sender();
  if (typeof send === "function") return send(core, write, input, options, laid);
  return send.then(
    (send) => {
      refuseDisposed(core);
      return send(core, write, input, options, laid);
    },
    (thrown) => {
      turn(core, () => {
        for (const entry of laid.entries) lift(entry, (layer) => layer.write === laid, "lifted: it could not be sent");
      });
      throw thrown;
    },
  );
}
