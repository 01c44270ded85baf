import { missingFailure } from "../core/doors/answers.js";
import { renderingOf } from "../core/doors/page.js";
import {
  type AnyReading,
  changeInterval,
  definedElsewhere,
  makeEmpty,
  picked,
  readingWith,
  userCountIn,
  wasJustMade,
} from "../core/doors/readings.js";
import {
  type ArgumentsOf,
  type Cache,
  CistaError,
  type Reading,
  type Source,
  type View,
  type ViewOptions,
} from "../core/index.js";

/** A component's options for a reading, in every binding. */
export interface BindingOptions<T, U = T> extends ViewOptions<T, U> {
  /** While new params load, keep the last value, as `loading` with `provisional: "carried"`. */
  carryOver?: boolean | undefined;
  /** False: a page that is rendered on a server does not wait for it. It is `loading` there, and asked for in the browser. Default true. */
  onServer?: boolean | undefined;
}

/**
 * The params of a reading, which need not be known yet, then options. A source that takes no params may have its options first.
 * @typeParam Q the forms of params, outside of the condition for the reason that `ArgumentsOf` says
 */
export type BindingParams<P, O, Q = P | undefined> = 0 extends 1 & P
  ? [params?: any, options?: O]
  : [P] extends [void]
    ? OptionsFirst<Q, O>
    : undefined extends P
      ? [params?: Q, options?: O]
      : [params: Q, options?: O];

/** The same for a value that is waited for: the params are known. */
export type KnownParams<P, O, Q = P> = 0 extends 1 & P
  ? [params?: any, options?: O]
  : [P] extends [void]
    ? OptionsFirst<Q, O>
    : ArgumentsOf<P, O>;

/**
 * The arguments of a source that takes no params: its options, or `undefined` and then its options.
 * @typeParam Q the forms of params that a function hands on which is generic in them
 */
export type OptionsFirst<Q, O> = [options?: O | Q, optionsAfterUndefined?: O];

/** One entry, as one component has asked for it. */
export interface Asked {
  readonly cache: Cache;
  readonly source: Source<any, any>;
  /** As they were spelled last. */
  params: unknown;
  /** False: the params are not known yet, and the reading is `empty`. */
  readonly known: boolean;
  readonly when: boolean;
  readonly onServer: boolean;
  /** As it was said last. */
  revalidateEvery: ViewOptions<any>["revalidateEvery"];
  readonly view: View<any>;
  /** Attaches; returns its own end. The reading shown when it ends may be carried over. */
  subscribe(listener: () => void): () => void;
  /** Sets the view's interval to the last one. To be called when the entry is on the page. */
  applyInterval(): void;
}

/** A view that is attached already for components that wait to be shown, if there is one. */
export type AttachedView = (cache: Cache, key: string) => View<any> | undefined;

const usual: BindingOptions<any, any> = {};

const isServer = typeof document === "undefined";

/**
 * The entry that one component asks for, another one as its params change (rule R4), and its reading. Starts nothing and
 * notifies no listener, so it may be used while rendering and in computed values.
 */
export class Asking {
  #asked: Asked | undefined;
  #options = usual;
  /** The attached view: on the page, until another is. */
  #attached: Asked | undefined;
  /** The last value that was there under another key, to be carried over to other params of the same source. */
  #kept:
    | { readonly source: unknown; readonly key: string; readonly value: unknown; readonly userCount: number }
    | undefined;
  #carried: { readonly from: Reading<any>; readonly reading: Reading<any> } | undefined;
  #part: { readonly of: Reading<any>; readonly pick: unknown; readonly reading: AnyReading } | undefined;

  /** Rule H1: on a server, and in a browser until the component is hydrated, it is shown the page's reading. */
  isHydrating: boolean = isServer;

  /** The entry that was asked for last. */
  get asked(): Asked | undefined {
    return this.#asked;
  }

  /**
   * The entry from now on: the same object for as long as it is the same entry, however the params are spelled.
   * @param known false: the params are not known yet, the reading is `empty`
   */
  ask(
    cache: Cache,
    source: Source<any, any>,
    params: unknown,
    options: BindingOptions<any, any> = usual,
    known: boolean = isKnown(source, params),
    attachedView?: AttachedView,
  ): Asked {
    this.#options = options;
    const before = this.#asked;
    const { when = true, revalidateEvery } = options;
    const isAlike =
      before?.cache === cache && before.source === source && before.known === known && before.when === when;
    if (isAlike) before.revalidateEvery = revalidateEvery;
    const awaited = isAlike ? attachedView?.(cache, before.view.key) : undefined;
    if (isAlike && Object.is(before.params, params) && (!awaited || awaited === before.view)) return before;
    const own = viewOf(cache, source, params, known, { when, revalidateEvery });
    const view = attachedView?.(cache, own.key) ?? own;
    if (isAlike && before.view.key === view.key && (view === own || view === before.view)) {
      before.params = params;
      return before;
    }
    const asked = new AskedEntry(this, cache, source, view, params, known, options);
    this.#asked = asked;
    return asked;
  }

  /**
   * The reading of the entry, with `carryOver` and `pick` applied: the same object until something of it changes.
   * @param asked the entry that the reader has asked for: in a framework's transition, the former one may still be on the page
   */
  get(
    asked: Asked | undefined = this.#asked,
    { pick, carryOver }: BindingOptions<any, any> = this.#options,
  ): Reading<any> {
    if (!asked) throw new TypeError("ask(cache, source, params) comes first");
    let reading = (this.isHydrating && pageReadingOf(asked)) || asked.view.get();
    if (carryOver) reading = this.#carriedOver(reading, asked);
    if (!pick) return reading;
    if (this.#part?.of !== reading || this.#part.pick !== pick) {
      this.#part = { of: reading, pick, reading: picked(reading as AnyReading, pick, this.#part?.reading) };
    }
    return this.#part.reading as Reading<any>;
  }

  /** As `Asked.subscribe`. */
  attachTo(asked: Asked, listener: () => void): () => void {
    const leave = asked.view.subscribe(listener);
    if (this.#attached && this.#attached !== asked) this.#keepFrom(this.#attached);
    this.#attached = asked;
    this.#forgetKept(asked.view.get());
    return () => {
      if (this.#attached === asked) {
        this.#keepFrom(asked);
        this.#attached = undefined;
      }
      leave();
    };
  }

  /** The former value counts only until the next has come, be it no value. */
  #forgetKept({ state }: Reading<any>): void {
    if (state !== "loading") this.#kept = undefined;
  }

  #keepFrom({ view, source, cache }: Asked): void {
    const { state, value, key } = view.get();
    if (state === "ready") this.#kept = { source, key, value, userCount: userCountIn(cache) };
  }

  /** The view of another key on the page is still attached while the new one is first looked at; afterwards its reading is kept. */
  #carriedOver(reading: Reading<any>, asked: Asked): Reading<any> {
    const { key } = asked.view;
    const { source } = asked;
    // A reading of former params may be looked at later: by the end of an effect, or by React's own tools.
    if (asked === this.#asked) this.#forgetKept(reading);
    if (reading.state !== "loading" || reading.value !== undefined) return reading;
    if (this.#attached && this.#attached.view.key !== key) this.#keepFrom(this.#attached);
    const kept = this.#kept;
    if (kept?.source !== source || kept.key === key || kept.userCount !== userCountIn(asked.cache)) return reading;
    if (this.#carried?.from !== reading || this.#carried.reading.value !== kept.value) {
      this.#carried = {
        from: reading,
        reading: readingWith(reading as AnyReading, { value: kept.value, provisional: "carried" }) as Reading<any>,
      };
    }
    return this.#carried.reading;
  }
}

class AskedEntry implements Asked {
  readonly cache: Cache;
  readonly source: Source<any, any>;
  params: unknown;
  readonly known: boolean;
  readonly when: boolean;
  readonly onServer: boolean;
  revalidateEvery: ViewOptions<any>["revalidateEvery"];
  readonly view: View<any>;
  readonly #asking: Asking;
  #applied: ViewOptions<any>["revalidateEvery"];

  constructor(
    asking: Asking,
    cache: Cache,
    source: Source<any, any>,
    view: View<any>,
    params: unknown,
    known: boolean,
    { when = true, onServer = true, revalidateEvery }: BindingOptions<any, any>,
  ) {
    this.cache = cache;
    this.source = source;
    this.params = params;
    this.known = known;
    this.when = when;
    this.onServer = onServer;
    this.revalidateEvery = this.#applied = revalidateEvery;
    this.view = view;
    this.#asking = asking;
  }

  subscribe(listener: () => void): () => void {
    return this.#asking.attachTo(this, listener);
  }

  applyInterval(): void {
    if (this.#applied === this.revalidateEvery) return;
    this.#applied = this.revalidateEvery;
    changeInterval(this.view, this.#applied);
  }
}

/** The reading that the page being rendered or hydrated shows of it, if it has come. */
function pageReadingOf({ cache, known, view, source, when, onServer }: Asked): Reading<any> | undefined {
  return known ? renderingOf(cache)?.peek(view, source, when, onServer) : undefined;
}

/**
 * For a framework's server renderer: resolves when the page shows the entry (rule H1). Without a page there is nothing
 * to wait for.
 */
export async function shownOnPage({ cache, known, view, source, when, onServer }: Asked): Promise<void> {
  const rendering = known ? renderingOf(cache) : undefined;
  if (!rendering?.onServer) return;
  for (
    let shown = rendering.of(view, source, when, onServer);
    shown instanceof Promise;
    shown = rendering.of(view, source, when, onServer)
  ) {
    await shown;
  }
}

/**
 * The same for a value that is awaited, which is read where there is no page.
 * @throws the failure for which it is not on the page (rule H4): an awaited value has no other way to be left to the browser
 */
export async function valueOnServer(asked: Asked): Promise<void> {
  const rendering = renderingOf(asked.cache);
  if (!rendering) return void (await asked.cache.read(asked.source, asked.params as never));
  await shownOnPage(asked);
  const why = rendering.left?.get(asked.view.key);
  if (why) throw why;
}

/**
 * The value itself; a stand-in or carried-over value counts as one. Undefined where nothing has come yet.
 * @throws the failure, of kind "missing" where there is no such thing
 */
export function valueToShow<T>({ state, value, key, failure }: Reading<T>): T | undefined {
  if (state === "missing") throw missingFailure(key);
  if (state === "failed") throw failure;
  return value;
}

/** Nothing to show yet, not even a stand-in. */
export function isWaiting(reading: Reading<any> | undefined): boolean {
  return (reading?.state === "loading" || reading?.state === "empty") && reading.value === undefined;
}

/**
 * Whether there are params to ask with: `undefined` means "not known yet", but for a source that takes none or goes without.
 * Such a one says so (`params`), or its load names no first argument.
 */
export function isKnown({ definition }: Source<any, any>, params: unknown): boolean {
  return params !== undefined || definition.params !== undefined || definition.load.length === 0;
}

type Given = readonly [params?: any, options?: any];

/**
 * Params and options, each in its own place: where the source takes no params, its options may stand in theirs. Options are
 * known by their names, since a `load` whose params have a default looks as if it took none.
 */
export function placeArguments<G extends readonly [params?: any, options?: any]>(
  source: Source<any, any>,
  given: G,
): G {
  const [first] = given;
  const isMoved = typeof first === "object" && takesOptionsFirst(source, given) && isOptions(first);
  return (isMoved ? [undefined, first] : given) as G;
}

/** The same for frameworks that follow the values a function looks at: the options may be a function that returns them. */
export function placeFollowed<G extends readonly [params?: any, options?: any]>(source: Source<any, any>, given: G): G {
  const [first] = given;
  if (typeof first !== "function" || !takesOptionsFirst(source, given)) return placeArguments(source, given);
  const moved: Given = [
    () => (isOptions(first()) ? undefined : first()),
    () => (isOptions(first()) ? first() : undefined),
  ];
  return moved as G;
}

function takesOptionsFirst(source: Source<any, any>, given: Given): boolean {
  return given.length === 1 && source.definition.params !== "optional" && isKnown(source, undefined);
}

const optionName = /^(?:cache|carryOver|injector|onServer|pick|revalidateEvery|when)$/;

function isOptions(said: any): boolean {
  return said && typeof said === "object" && Object.keys(said).every((name) => optionName.test(name));
}

/**
 * In development: whether a component makes the source that it uses anew each time that it renders. Each would load anew.
 * @throws CistaError code "source-in-render" from the second time on
 */
export function refuseSourceOfRender(cache: Cache, source: Source<any, any>): void {
  if (!DEVELOPMENT || !wasJustMade(source) || !definedElsewhere(cache, source)) return;
  throw new CistaError(
    "source-in-render",
    `The source "${source.name}" is defined again each time that a component renders, and each would load anew. Define it once, outside of components: export const ${/^\w+$/.test(source.name) ? source.name : "it"} = source({ name: "${source.name}", … }), and pass what differs as params.`,
  );
}

/** The view of an entry; an empty view while the params are not known. */
export function viewOf(
  cache: Cache,
  source: Source<any, any>,
  params: unknown,
  known: boolean,
  options: ViewOptions<any>,
): View<any> {
  return known ? cache.view(source, params, options) : nothingAsked(source.name);
}

function nothingAsked(name: string): View<any> {
  const reading = makeEmpty(name, { revalidate: async () => {} }) as Reading<any>;
  return { key: name, get: () => reading, subscribe: () => () => {}, revalidate: async () => reading };
}

/** As `BindingParams`, for frameworks that follow the values a function looks at: params may be a getter. */
export type LiveParams<P, O, Q = P | undefined | (() => P | undefined)> = 0 extends 1 & P
  ? [params?: any, options?: O]
  : [P] extends [void]
    ? OptionsFirst<Q, O>
    : undefined extends P
      ? [params?: Q, options?: O]
      : [params: Q, options?: O];

/** Options as they are, or a function that returns them all: the values that it looks at are followed. */
export type MaybeFollowed<O> = O | (() => O);

/** Options of a whole list for one of its readings, in the cache of the list. */
export function optionsIn<O extends object>(
  options: MaybeFollowed<O>,
  cache: Cache,
): MaybeFollowed<O & { cache: Cache }> {
  return typeof options === "function" ? () => ({ ...options(), cache }) : { ...options, cache };
}

/** A component's options for a live reading. */
export interface LiveOptions<T, U = T> extends Omit<BindingOptions<T, U>, "when"> {
  /** False: attached but never starts a request by itself. A getter is followed. Default true. */
  when?: boolean | (() => boolean) | undefined;
  /** Instead of the cache that was provided. */
  cache?: Cache | undefined;
}

/**
 * The present interval, for frameworks that follow the values a function looks at. A function of the value is called with it,
 * and made anew: so the cache asks it again.
 */
export function intervalNow(
  said: BindingOptions<any>["revalidateEvery"],
  value: unknown,
  params: unknown,
): BindingOptions<any>["revalidateEvery"] {
  if (typeof said !== "function") return said;
  try {
    if (value !== undefined) said(value, params);
  } catch {} // reported where the cache calls it
  return (...now) => said(...now);
}

/** Params are JSON and never functions, so a function is a getter. */
export function valueNow<V>(given: V | (() => V)): V {
  return typeof given === "function" ? (given as () => V)() : given;
}

/** @throws CistaError code "no-provider" with the remedy */
export function refuseNoProvider(what: string | false): never {
  throw new CistaError("no-provider", what);
}
