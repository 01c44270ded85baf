/** One call of a load, and its context. */
import { dependenciesUnchanged } from "../api/answer.js";
import { CistaError } from "../api/failure.js";
import type { Cause } from "../api/journal.js";
import type { LoadContext, LoadMode } from "../api/source-contract.js";
import type { LazyAbort } from "../lib/abort.js";
import type { Entry } from "../state/entry.js";
import type { EntryRequest } from "../state/entry-request.js";
import { composingOf, type DependencyReader } from "../state/links.js";
import { changeUser } from "./users.js";

/** Calls the source once, or is spared it. Without a promise where none is needed: each takes its turn of the event loop. */
export function load(entry: Entry, request: EntryRequest): unknown {
  const { source } = entry.shelf;
  const reader = composingOf(source)?.begin(entry, request);
  if (reader && entry.links?.dependencies.length) return loadUnlessSpared(entry, request, reader);
  return loadNow(entry, request, reader);
}

async function loadUnlessSpared(entry: Entry, request: EntryRequest, reader: DependencyReader): Promise<unknown> {
  return (await reader.spares()) ? dependenciesUnchanged : loadNow(entry, request, reader);
}

function loadNow(entry: Entry, request: EntryRequest, reader: DependencyReader | undefined): unknown {
  const { core, source } = entry.shelf;
  request.current.throwIfAborted();
  const context = new ContextOfLoad(entry, request);
  if (reader) Object.assign(context, { read: reader.read });
  else if (DEVELOPMENT) Object.assign(context, refusesToRead(entry));
  if (core.interception) return core.interception.load(entry, reader, context);
  return source.definition.load(entry.params, context);
}

/** The context of one call of a load. Members that cost something are made when they are read. */
class ContextOfLoad implements LoadContext {
  declare readonly signal: AbortSignal;
  declare readonly held: LoadContext["held"];
  readonly context: unknown;
  readonly partition: string | undefined;
  readonly cause: Cause;
  readonly attempt: number;
  readonly mode: LoadMode;
  readonly now: () => number;
  readonly userChanged: (hasLeft: boolean) => void;
  readonly #entry: Entry;
  readonly #current: LazyAbort;

  constructor(entry: Entry, request: EntryRequest) {
    const { core } = entry.shelf;
    const { current, attempt, cause, mode } = request;
    // Its own, so that a copy has them; made by one descriptor, since accessors of a literal take three times the room and the time.
    Object.defineProperty(this, "signal", ContextOfLoad.#signal);
    Object.defineProperty(this, "held", ContextOfLoad.#held);
    this.#entry = entry;
    this.#current = current;
    this.context = core.options.context;
    this.partition = core.options.partition;
    this.cause = cause;
    this.attempt = attempt;
    this.mode = mode;
    this.now = core.now;
    this.userChanged = (hasLeft) => changeUser(core, hasLeft, request);
  }

  static readonly #signal: PropertyDescriptor = {
    enumerable: true,
    get(this: ContextOfLoad) {
      return this.#current.signal;
    },
  };

  /** When it is looked at: another tab may have brought it while the load waited. */
  static readonly #held: PropertyDescriptor = {
    enumerable: true,
    get(this: ContextOfLoad) {
      const entry = this.#entry;
      return entry.held === "value" && !ignoresHeld(this.mode) && entry.fits ? heldOf(entry) : undefined;
    },
  };
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

/** The held value makes no request conditional where a load is to see nothing of any cache (WHATWG Fetch). */
function ignoresHeld(mode: LoadMode): boolean {
  return mode === "reload" || mode === "no-store";
}

function heldOf({
  value,
  bornAt: asOf,
  extra,
  policy,
  isOutdated: isInvalidated,
}: Entry): NonNullable<LoadContext["held"]> {
  const held = { value, asOf, policy, varies: extra?.varies, isInvalidated };
  return extra?.validator ? { ...held, validator: extra.validator } : held;
}
