/** The contract for programs: sources, their loads, and interceptors around the loads. */
import type { Answer, Validator } from "./answer.js";
import type { StandardSchema } from "./check.js";
import type { Cache } from "./contract.js";
import type { Freshness, Policy } from "./freshness.js";
import type { Cause } from "./journal.js";
import type { Callback, Interval } from "./reading.js";
import type { SourceSettings } from "./settings.js";

/** P: the params; R: the result of `load`. T, the value, follows from R. */
export interface SourceDefinition<P, R, T = Loaded<R>> extends SourceSettings {
  /** Unique in one cache; begins the key. Without white space. */
  name: string;
  /** Any asynchronous work. An AsyncIterable makes the source live: every value it yields is an answer. */
  load(params: P, context: LoadContext): R;
  /**
   * Whether the source takes params. False: it takes none, though `load` names a first argument in order to have the second one. In
   * TypeScript such a source has to say so.
   * "optional": it can also be used without, such as a `load` whose params have a default. Bindings need it to tell "no params" from
   * "params that are not known yet", and from options. Default: it takes params if `load` names a first argument.
   */
  params?: false | "optional";
  /** A Standard Schema. Its output is the value, with its type. A value that it refuses is a `Failure` of kind "shape", which describes that value. */
  check?: StandardSchema<unknown, T>;
  /**
   * Names by which an entry is invalidated together with others (RFC 9875), in addition to those of the answer. `value` is
   * `undefined` where none is held, and where only the groups that the params give are needed. In TypeScript write `groups` after
   * `load`: its types come from there.
   */
  groups?(params: P, value: T | undefined): readonly string[];
  /**
   * Whether an answer that `varies` by this would be the answer to a request made now (RFC 9111 §4.1). Default: yes.
   * "unsteady": no, and two requests made now would differ from each other. Then none is made in place of another.
   */
  fits?(varies: Record<string, string>, params: P, context: unknown): boolean | "unsteady";
  /**
   * The notes on a value that a program puts: those of an answer to a request made now. Default: none, the value is for all users.
   * @param before the notes on the value that is held
   */
  varies?(
    params: P,
    context: unknown,
    before: Readonly<Record<string, string>> | undefined,
  ): Record<string, string> | undefined;
  /** Whether a value of a snapshot or a store is valid for this source, in addition to `check`. A value that is not is dropped. */
  accepts?(value: unknown): boolean;
  /** Shown until the first answer; marked `provisional`; never stored. */
  standIn?(params: P, cache: Cache): T | undefined;
  /**
   * How often the value is revalidated while it is watched and the page is visible. A function gets the held value, and returns
   * the time until the next revalidation, or false for no more. Default: never.
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

/**
 * A source without params whose load names a first argument, in order to have the second one, says `params: false`: bindings see only
 * the load's length, and would wait for its params.
 */
export type SaysNoParams<P> = 0 extends 1 & P
  ? unknown
  : [P] extends [void]
    ? { params: false } | { load(): unknown }
    : unknown;

/** The second argument of a load, beside the params. */
export interface LoadContext {
  /** Is aborted when no reader waits for the load any more, on `timeout`, and when a newer value takes its place. Pass it on to `fetch`. */
  readonly signal: AbortSignal;
  /** The `context` of `createCache`: on a server, the request that is being answered. */
  readonly context: unknown;
  /** The cache's `partition`: whose entries these are. */
  readonly partition: string | undefined;
  readonly cause: Cause;
  /** 1 for the first try. */
  readonly attempt: number;
  /** Pass it to `fetch` as `cache`, so that "now" is not answered by the browser's own. */
  readonly mode: LoadMode;
  /** The held value at the moment at which this member is read, for a conditional request. */
  readonly held?:
    | {
        readonly value: unknown;
        readonly validator?: Validator;
        readonly asOf: number;
        /** How it may be used. */
        readonly policy?: Policy;
        /**
         * For whom it is (rule F9).
         * @internal
         */
        readonly varies?: Readonly<Record<string, string>> | undefined;
        /**
         * It was invalidated: any part of it may be another by now.
         * @internal
         */
        readonly isInvalidated?: boolean;
      }
    | undefined;
  /** The cache's clock: milliseconds since the Unix epoch. */
  now(): number;
  /**
   * The request is made for another user than the one before: shown values that do not fit are asked for anew (rule F9).
   * @param hasLeft whether a user was signed in before
   * @internal
   */
  userChanged?(hasLeft: boolean): void;
}

/** The members that the context of a composite's load has in addition. */
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
  /** The definition of its source. */
  readonly definition: SourceDefinition<any, any>;
  /** The cache's: whose entries these are. */
  readonly partition: string | undefined;
  /** The keys of the dependencies that it has read so far. */
  readonly dependsOn: readonly string[];
  /** The policy of an answer with these details: they take precedence over the policy of the source (rule F7). */
  policyOf(details: Freshness): Policy;
}

/** The members of a load's context that an interceptor may replace. */
export type LoadChanges = Partial<Pick<CompositeContext, "signal" | "held" | "read">>;

/** A request that would be made, as far as it is known before there is a load. */
export interface KnownQuestion extends Pick<LoadCall, "key" | "source" | "params" | "definition" | "partition"> {
  readonly cause: Cause;
}

/** Code around every load of one cache: see `intercept`. */
export interface Interceptor {
  /**
   * The answer that is known at once, without the source: the entry takes the answer, and no request is made. Is called where a request
   * of mode "default" would start, unless an interceptor outside of this one has a `load` and knows nothing. It is not called
   * for composites and their dependencies, nor while the journal is listened to: then `load` is. The answer is not checked.
   * @returns undefined where a request is to be made; an answer of kind "unchanged" counts as that
   */
  known?(question: KnownQuestion): Answer<unknown> | undefined;
  /**
   * Is called in place of the load. It may delay the load, answer in its place, or fail. `proceed` calls the load, or the next
   * interceptor, with changes of its context: an interceptor that has a value from elsewhere passes it as `held`. The result of
   * `proceed` has been checked. An answer of the interceptor's own is checked afterwards.
   */
  load?(call: LoadCall, proceed: (changes?: LoadChanges) => unknown): unknown;
  /** Whether a source, by its name, is without a network. Its requests wait (rule R6) until the interceptor is removed. */
  isOffline?(source: string): boolean;
}

/** The value type behind the result of a load: a value, an Answer, a promise of either, or an AsyncIterable of either. */
export type Loaded<R> = R extends AsyncIterable<infer V> ? Valued<V> : Valued<Awaited<R>>;
type Valued<V> = V extends Answer<infer T> ? T : V;

/** `unknown` in place of `any`, so that a value without a type is checked before it is used. */
export type Known<T> = 0 extends 1 & T ? unknown : T;

/**
 * The type of a source's params: `ParamsOf<typeof hut>`.
 * @example function HutName({ params }: { params: ParamsOf<typeof hut> }) { … }
 */
export type ParamsOf<S extends Source<any, any>> = S extends Source<infer P, any> ? P : never;

/**
 * The type of a source's value: `ValueOf<typeof hut>`.
 * @example function HutCard({ hut }: { hut: ValueOf<typeof hutSource> }) { … }
 */
export type ValueOf<S extends Source<any, any>> = S extends Source<any, infer T> ? T : never;

/**
 * Params come first, then options: a source without params takes `undefined` there when options follow. Also in a function that is
 * generic in P, it takes a P.
 * @typeParam Q is P again. P itself, in a branch of the condition, would have the constraint of that branch.
 */
export type ArgumentsOf<P, O = never, Q = P> = 0 extends 1 & P
  ? [params?: any, ...OptionsOf<O>]
  : [P] extends [void]
    ? [params?: Q, ...OptionsOf<O>]
    : undefined extends P
      ? [params?: Q, ...OptionsOf<O>]
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
