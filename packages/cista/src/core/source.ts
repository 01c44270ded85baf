import type { Answer, Validator } from "./answer.js";
import type { Cache } from "./contract.js";
import type { Duration } from "./duration.js";
import { CistaError, type Failure, shown } from "./failure.js";
import type { Freshness } from "./freshness.js";
import { settingsOf } from "./settings.js";

/** Why a request was made. */
export type Cause =
  | "attach"
  | "read"
  | "prefetch"
  | "visible"
  | "online"
  | "interval"
  | "expired"
  | "invalidated"
  | "dependency"
  | "asked";

/** How far the caches on the way may be used (WHATWG Fetch, request cache mode). */
export type LoadMode = "default" | "no-cache" | "reload" | "no-store";

/** What the cache may offer a load to make it conditional, and what a load may ask of the cache. */
export interface LoadContext {
  /** Aborted when nobody waits any more, on `timeout`, or when the load is superseded. Pass it on to `fetch`. */
  readonly signal: AbortSignal;
  readonly cause: Cause;
  /** 1 for the first try. */
  readonly attempt: number;
  /** Pass it to `fetch` as `cache`, so that "now" is not answered by the browser's own. */
  readonly mode: LoadMode;
  /** What is held now, for a conditional request. */
  readonly held?: { readonly value: unknown; readonly validator?: Validator; readonly storedAt: number };
  /** Reads another source through the same cache: collapsed and cached like any read. */
  read<P, U>(source: Source<P, U>, ...params: ArgumentsOf<P>): Promise<U>;
}

export interface Retry {
  /** Tries after the first. Default 3. */
  times?: number;
  /** Delay before try n+1, full jitter under an exponential ceiling: random × min(most, first × 2^(n-1)). Defaults "500ms" and "30s". */
  first?: Duration;
  most?: Duration;
  /** Default: `failure.retryable` (rule R5). A failure's own `retryAfter` overrides the delay. */
  when?(failure: Failure): boolean;
}

/** The value type behind what a load returns: a value, an Answer, a promise of either, or an AsyncIterable of either. */
export type Loaded<R> = R extends AsyncIterable<infer V> ? Valued<V> : Valued<Awaited<R>>;
type Valued<V> = V extends Answer<infer T> ? T : V;

/** What makes a *stale* value be revalidated while it is watched. */
export type Trigger = "attach" | "visible" | "online";

/** https://standardschema.dev */
export interface StandardSchema<I, O> {
  readonly "~standard": {
    readonly version: 1;
    readonly vendor: string;
    validate(value: unknown): unknown;
    readonly types?: { readonly input: I; readonly output: O } | undefined;
  };
}
export type OutputOf<S> = S extends StandardSchema<any, infer O> ? O : never;

/** P: the params; R: what `load` returns. T, the value, follows from R. */
export interface SourceDefinition<P, R, T = Loaded<R>> extends Freshness {
  /** Unique in one cache; begins the key. Without white space. */
  name: string;
  /** Any asynchronous work. An AsyncIterable makes the source live: every value it yields is an answer. */
  load(params: P, context: LoadContext): R;
  /** False: takes none, though `load` names a first argument to come by its second. Needed only where a binding must tell "none" from "not known yet". */
  params?: false;
  /** False: needs no network and runs offline too. Default true. */
  network?: boolean;
  /** A Standard Schema; what it returns is what is stored, and its output type is the value's type. A mismatch is a `Failure` of kind "shape" that shows what came. */
  check?: StandardSchema<unknown, T>;
  /** Labels of the entry, by which it can be invalidated with others (RFC 9875). */
  groups?(value: T, params: P): readonly string[];
  /** How long an entry that nobody watches is kept. Default "5m". */
  retain?: Duration;
  /** What makes a *stale* value be revalidated while it is watched. Default: all three. Fresh values are left alone. A network that is back while nobody looks at the page counts when somebody does. */
  triggers?: readonly Trigger[];
  /** While watched and the page is visible, revalidate this often. Default: never. */
  revalidateEvery?: Duration;
  retry?: Retry | false;
  /** For one try. Default "30s". */
  timeout?: Duration;
  /** Shown until the first answer; marked `provisional`; never stored. */
  standIn?(params: P, cache: Cache): T | undefined;
  /** Keep the old reference for every part that did not change. Default true for plain JSON values. */
  share?: boolean | ((previous: T, next: T) => T);
  /** A bucket of bursts, refilled evenly over `per`; a burst is all that this source starts in one turn. Past it requests are held back and the journal says why. Default { bursts: 100, per: "10s" }. */
  requestBudget?: { bursts: number; per: Duration } | false;
}

/** Where one kind of value comes from; defined once, used in any cache. */
export interface Source<P, T> {
  readonly name: string;
  readonly definition: SourceDefinition<P, any, T>;
}

/** Params come first, then options: a source without params takes `undefined` there when options follow. */
export type ArgumentsOf<P, O = never> = 0 extends 1 & P
  ? [params?: any, options?: O]
  : [P] extends [void]
    ? [params?: undefined, options?: O]
    : undefined extends P
      ? [params?: P, options?: O]
      : [params: P, options?: O];

/**
 * Says once where a kind of value comes from and how long it may be used. Starts nothing.
 * @throws CistaError code "source": a name or `load` that cannot be; code "duration": a length of time that cannot be
 */
export function source<P, S extends StandardSchema<any, any>>(
  definition: Omit<SourceDefinition<P, unknown, OutputOf<S>>, "check"> & {
    check: S;
    load(params: P, context: LoadContext): unknown;
  },
): Source<P, OutputOf<S>>;
export function source<P = void, R = unknown>(definition: SourceDefinition<P, R>): Source<P, Loaded<R>>;
export function source(definition: SourceDefinition<any, any, any>): Source<any, any> {
  const { name, load } = definition;
  if (typeof name !== "string" || name === "" || /\s/.test(name)) {
    throw new CistaError(
      "source",
      `A source's name is text without white space, such as "hut", but it is ${shown(name)}.`,
    );
  }
  if (typeof load !== "function") {
    throw new CistaError("source", `The source "${name}" needs a load function, but load is ${shown(load)}.`);
  }
  settingsOf(definition, {}); // refuses what cannot be where it was written
  return Object.freeze({ name, definition: Object.freeze({ ...definition }) });
}
