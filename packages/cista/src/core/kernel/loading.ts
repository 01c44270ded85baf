/** One call of a load: its context, and the interceptors around it. */
import { partsUnchanged } from "../api/answer.js";
import { checkedAnswer } from "../api/check.js";
import { CistaError } from "../api/failure.js";
import { policyWith } from "../api/freshness.js";
import type { LoadCall, LoadChanges, LoadContext, LoadMode } from "../api/source-contract.js";
import type { Request } from "../lib/request.js";
import type { Entry } from "../state/entry.js";
import { type Composing, composingKey, type PartsReader } from "../state/links.js";
import { requestForNewUser } from "./users.js";

/** Calls the source once, or is spared it. */
export async function load(entry: Entry, request: Request): Promise<unknown> {
  const { signal } = request;
  const { core, source } = entry.shelf;
  const { cause, mode } = entry.active();
  const reader = (source as { readonly [composingKey]?: Composing })[composingKey]?.(entry, request);
  if (entry.links?.parts.length && (await reader?.spares())) return partsUnchanged;
  signal.throwIfAborted();
  const context: LoadContext = {
    signal,
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
  if (core.interceptors.length === 0) return source.definition.load(entry.params, context);
  return intercepted(entry, reader, context);
}

/** In development: a program without types is told which maker it needs. */
function refusesToRead({ key }: Entry): object {
  const read = () => {
    throw new CistaError(
      "composite",
      `The load of ${key} reads another source: define it by composite({ … }), not source.`,
    );
  };
  return { read };
}

/** Through the interceptors, the outermost first. What one changes of the context, those within see too. */
function intercepted(entry: Entry, reader: PartsReader | undefined, context: LoadContext): unknown {
  const { core, source, settings } = entry.shelf;
  const { definition } = source;
  const callWith = (changes: LoadChanges): LoadCall => ({
    key: entry.key,
    source: source.name,
    params: entry.params,
    context: changed(context, changes),
    definition,
    partition: core.options.partition,
    get parts() {
      return reader?.keys ?? [];
    },
    policyOf: (details) => policyWith(settings.policy, details),
  });
  const around = core.interceptors.reduce<(changes: LoadChanges) => unknown>(
    (inner, { interceptor }) =>
      (changes) =>
        interceptor.load
          ? interceptor.load(callWith(changes), (more) => inner({ ...changes, ...more }))
          : inner(changes),
    async (changes) => {
      const came = await definition.load(entry.params, changed(context, changes));
      return definition.check ? checkedAnswer(definition.check, came) : came;
    },
  );
  return around({});
}

/** What is looked at late, such as what is held, is still looked at late. */
function changed(context: LoadContext, changes: LoadChanges): LoadContext {
  if (Object.keys(changes).length === 0) return context;
  const members = { ...Object.getOwnPropertyDescriptors(context), ...Object.getOwnPropertyDescriptors(changes) };
  return Object.defineProperties({}, members) as LoadContext;
}

/** What is held makes no request conditional where a load is to see nothing of any cache (WHATWG Fetch). */
function ignoresHeld(mode: LoadMode): boolean {
  return mode === "reload" || mode === "no-store";
}

function heldOf({ value, bornAt: storedAt, extra, policy }: Entry): NonNullable<LoadContext["held"]> {
  const held = { value, storedAt, policy };
  return extra?.validator ? { ...held, validator: extra.validator } : held;
}
