/** One call of a load, and its context. */
import { partsUnchanged } from "../api/answer.js";
import { CistaError } from "../api/failure.js";
import type { LoadContext, LoadMode } from "../api/source-contract.js";
import type { Request } from "../lib/request.js";
import type { Entry } from "../state/entry.js";
import { type Composing, composingKey } from "../state/links.js";
import { requestForNewUser } from "./users.js";

/** Calls the source once, or is spared it. Without a promise where none is needed: each takes its turn of the event loop. */
export function load(entry: Entry, request: Request): unknown {
  const { source } = entry.shelf;
  const reader = (source as { readonly [composingKey]?: Composing })[composingKey]?.(entry, request);
  if (reader && entry.links?.parts.length) return loadUnlessSpared(entry, request, reader);
  return loadNow(entry, request, reader);
}

async function loadUnlessSpared(entry: Entry, request: Request, reader: ReturnType<Composing>): Promise<unknown> {
  return (await reader.spares()) ? partsUnchanged : loadNow(entry, request, reader);
}

function loadNow(entry: Entry, request: Request, reader: ReturnType<Composing> | undefined): unknown {
  const { current } = request;
  const { core, source } = entry.shelf;
  const { cause, mode } = entry.active();
  current.throwIfAborted();
  const context: LoadContext = {
    get signal() {
      return current.signal;
    },
    context: core.options.context,
    partition: core.options.partition,
    cause,
    attempt: request.attempt,
    mode,
    now: () => core.clock.now(),
    userChanged: () => requestForNewUser(core),
    // When it is looked at: another tab may have brought it while the load waited.
    get held() {
      return entry.held === "value" && !ignoresHeld(mode) && entry.fits ? heldOf(entry) : undefined;
    },
    ...(reader ? { read: reader.read } : DEVELOPMENT && refusesToRead(entry)),
  };
  if (core.interception) return core.interception.load(entry, reader, context);
  return source.definition.load(entry.params, context);
}

/** In development: a program without types is told which maker it needs. */
function refusesToRead({ key }: Entry): object {
  const read = () => {
    throw new CistaError(
      "read-outside-composite",
      `The load of ${key} reads another source: define it by composite({ … }), not source.`,
    );
  };
  return { read };
}

/** What is held makes no request conditional where a load is to see nothing of any cache (WHATWG Fetch). */
function ignoresHeld(mode: LoadMode): boolean {
  return mode === "reload" || mode === "no-store";
}

function heldOf({ value, bornAt: asOf, extra, policy }: Entry): NonNullable<LoadContext["held"]> {
  const held = { value, asOf, policy };
  return extra?.validator ? { ...held, validator: extra.validator } : held;
}
