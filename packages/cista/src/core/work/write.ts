import type { RunOptions, Write, WriteDefinition } from "../ground/contract.js";
import { milliseconds } from "../ground/duration.js";
import { CistaError, shown } from "../ground/failure.js";
import { guarded } from "../ground/journal.js";
import { retryPlan } from "../ground/settings.js";
import { Laid } from "../state/activity.js";
import { type Core, refuseDisposed } from "../state/core.js";
import { turn } from "../state/turns.js";
import { file, obtain } from "./keeping.js";
import { lay, liftOwn } from "./layers.js";
import { runWrite } from "./sending.js";

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
  retryPlan(definition.retry ?? false); // refuses what cannot be where it was written
  milliseconds(definition.timeout ?? 0, "timeout");
  return Object.freeze({ name, definition: Object.freeze({ ...definition }), [sending]: sender });
}

/** The layers of one run, at once: whatever its sending waits for, what it changes is shown in the same frame. */
function layAll(core: Core, { name, definition }: Write<any, any>, input: unknown): Laid {
  const laid = new Laid(name);
  const edit = {
    patch: (source: any, params: unknown, change: (value: any) => unknown) => {
      const entry = obtain(core, source, params);
      lay(entry, laid, change);
      file(entry);
    },
  };
  turn(core, () => guarded(() => definition.optimistic?.(input, edit)));
  return laid;
}

/** @throws CistaError code "write" for what `write()` has not made */
export function run(core: Core, write: Write<any, any>, input: unknown, options: RunOptions = {}): Promise<unknown> {
  const sender = (write as Bringing | undefined)?.[sending];
  if (!sender) throw new CistaError("write", `run takes what write() has made, but it got ${shown(write)}.`);
  if (options.signal?.aborted) return Promise.reject(options.signal.reason);
  const laid = layAll(core, write, input);
  /** Only once all of it is known to be in order is it sent. */
  const sendNow = (send: Sender) => {
    refuseDisposed(core); // by what `optimistic` has done, or while what sends it was loaded
    options.signal?.throwIfAborted();
    return send(core, write, input, options, laid);
  };
  const takeBack = (thrown: unknown): never => {
    if (!core.disposed) {
      turn(core, () => {
        for (const entry of laid.entries) liftOwn(entry, laid, "lifted: it could not be sent");
      });
    }
    throw thrown;
  };
  try {
    const send = sender();
    if (typeof send === "function") return sendNow(send);
    return send.then(sendNow).catch((thrown) => (laid.isSent ? Promise.reject(thrown) : takeBack(thrown)));
  } catch (thrown) {
    return takeBack(thrown);
  }
}
