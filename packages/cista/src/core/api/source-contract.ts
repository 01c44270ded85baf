/** What programs are written against: sources, their loads, and interceptors around these. */
import type { Answer, Validator } from "./answer.js";
import type { StandardSchema } from "./check.js";
import type { Cache } from "./contract.js";
import type { Freshness, Policy } from "./freshness.js";
import type { Cause } from "./journal.js";
import type { Callback, Interval } from "./reading.js";
import type { SourceSettings } from "./settings.js";

/** P: the params; R: what `load` returns. T, the value, follows from R. */
export interface SourceDefinition<P, R, T = Loaded<R>> extends SourceSettings {
  /** Unique in one cache; begins the key. Without white space. */
  name: string;
  /** Any asynchronous work. An AsyncIterable makes the source live: every value it yields is an answer. */
  load(params: P, context: LoadContext): R;
  /**
   * False: takes none, though `load` names a first argument to come by its second. "optional": goes without too. Needed only
   * where a binding must tell "none" from "not known yet", since `load` names a first argument.
   */
  params?: false | "optional";
  /** A Standard Schema; what it returns is what is stored, and its output type is the value's type. A mismatch is a `Failure` of kind "shape" that shows what came. */
  check?: StandardSchema<unknown, T>;
  /**
   * Names by which an entry can be invalidated together with others (RFC 9875): they add up with those of the answer.
   * `value` is `undefined` where there is none, and where the groups are asked for that params alone give. In TypeScript
   * write it after `load`, of whose params and value it takes its types.
   */
  groups?(params: P, value: T | undefined): readonly string[];
  /**
   * Whether an answer that `varies` by this would be the answer to a request made now (RFC 9111 §4.1). Default: yes.
   * "unsteady": no, and two requests made now would differ from each other. Then none is made in place of another.
   */
  fits?(varies: Record<string, string>, params: P, context: unknown): boolean | "unsteady";
  /** Whether a value out of a snapshot or a store is one of this source's; what is not is dropped. Beside `check`, where there is one. */
  accepts?(value: unknown): boolean;
  /** Shown until the first answer; marked `provisional`; never stored. */
  standIn?(params: P, cache: Cache): T | undefined;
  /**
   * While watched and the page is visible, revalidate this often. A function is given the value that is held, and says how
   * long from now, or false once there is nothing more to wait for. Default: never.
   * @example revalidateEvery: (repair) => (repair.status === "done" ? false : "2s")
   */
  revalidateEvery?: Interval<T, P>;
  /** Keep the old reference for every part that did not change. Default true for plain JSON values. */
  share?: boolean | Callback<(previous: T, next: T) => T>;
}

/** Where one kind of value comes from; defined once, used in any cache. */
export interface Source<P, T> {
  readonly name: string;
  readonly definition: SourceDefinition<P, any, T>;
}

/** How far the caches on the way may be used (WHATWG Fetch, request cache mode). */
export type LoadMode = "default" | "no-cache" | "reload" | "no-store";

/** What the cache may offer a load to make it conditional, and what a load may ask of the cache. */
export interface LoadContext {
  /** Aborted when nobody waits any more, on `timeout`, or when the load is superseded. Pass it on to `fetch`. */
  readonly signal: AbortSignal;
  /** What `createCache` was given as `context`: on a server, whose request this cache is for. */
  readonly context: unknown;
  /** The cache's `partition`: whose entries these are. */
  readonly partition: string | undefined;
  readonly cause: Cause;
  /** 1 for the first try. */
  readonly attempt: number;
  /** Pass it to `fetch` as `cache`, so that "now" is not answered by the browser's own. */
  readonly mode: LoadMode;
  /** What is held when it is looked at, for a conditional request. */
  readonly held?:
    | {
        readonly value: unknown;
        readonly validator?: Validator;
        readonly asOf: number;
        /** How it may be used. */
        readonly policy?: Policy;
      }
    | undefined;
  /** The cache's clock: milliseconds since the Unix epoch. */
  now(): number;
  /**
   * The request is made for another user than the one before: shown values that do not fit are asked for anew (rule F9).
   * @internal
   */
  userChanged?(): void;
}

/** What a composite's load is given too. */
export interface CompositeContext extends LoadContext {
  /** Reads another source through the same cache: collapsed and cached like any read. */
  read<P, U>(source: Source<P, U>, ...params: ArgumentsOf<NoInfer<P>>): Promise<U>;
}

/** One load, as an interceptor sees it. */
export interface LoadCall {
  readonly key: string;
  /** Its source's name. */
  readonly source: string;
  readonly params: unknown;
  readonly context: LoadContext;
  /** What its source says of itself. */
  readonly definition: SourceDefinition<any, any>;
  /** The cache's: whose entries these are. */
  readonly partition: string | undefined;
  /** The keys of the entries that it has read so far: what it is made of. */
  readonly parts: readonly string[];
  /** How an answer may be used that says this of itself, by what its source says of all (rule F7). */
  policyOf(details: Freshness): Policy;
}

/** What an interceptor may have otherwise in the context of the load that it calls. */
export type LoadChanges = Partial<Pick<CompositeContext, "signal" | "held" | "read">>;

/** Stands around every load of one cache: see `intercept`. */
export interface Interceptor {
  /**
   * Called in place of the load: may delay it, answer in its place, or fail it. `proceed` calls the load, or the next
   * interceptor, with what is to be otherwise in its context: so one that knows a value from elsewhere offers it as `held`.
   * What the load comes back with has been checked; what an interceptor answers with itself is checked after it.
   */
  load?(call: LoadCall, proceed: (changes?: LoadChanges) => unknown): unknown;
  /** Whether there is to be no network for a source, by its name: its requests wait for it (rule R6), until the removal. */
  isOffline?(source: string): boolean;
}

/** The value type behind what a load returns: a value, an Answer, a promise of either, or an AsyncIterable of either. */
export type Loaded<R> = R extends AsyncIterable<infer V> ? Valued<V> : Valued<Awaited<R>>;
type Valued<V> = V extends Answer<infer T> ? T : V;

/** What nobody has said the type of: it is to be looked into before it is used. */
export type Known<T> = 0 extends 1 & T ? unknown : T;

/** Params come first, then options: a source without params takes `undefined` there when options follow. */
export type ArgumentsOf<P, O = never> = 0 extends 1 & P
  ? [params?: any, ...OptionsOf<O>]
  : [P] extends [void]
    ? [params?: undefined, ...OptionsOf<O>]
    : undefined extends P
      ? [params?: P, ...OptionsOf<O>]
      : [params: P, ...OptionsOf<O>];
/**
 * A signature with this type is never meant: the compiler shows its text where a call leaves out the params of a source, in
 * place of the count of arguments.
 */
export type ParamsLeftOut =
  "This source takes params: pass them after the source. In a component, pass undefined while they are not known.";

/** The same where a call passes params to what takes one selector. */
export type ParamsPassedAlone = "Pass one argument: { source, params }.";

type OptionsOf<O> = [O] extends [never] ? [] : [options?: O];
