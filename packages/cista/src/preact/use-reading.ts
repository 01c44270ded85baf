import { type ComponentChildren, type Context, createContext, createElement, type VNode } from "preact";
import { useContext, useLayoutEffect, useMemo, useReducer, useRef } from "preact/hooks";
import { AccessTracker } from "../binding/access-tracker.js";
import {
  type BindingOptions,
  type BindingParams,
  isKnown,
  placeArguments,
  refuseNoProvider,
  refuseSourceOfRender,
} from "../binding/asked.js";
import { Follower } from "../binding/follower.js";
import { type Listed, nothingListed } from "../binding/listed.js";
import { Runner, type RunWrite, type WriteStatus } from "../binding/runner.js";
import { englishTexts, type Texts } from "../binding/texts.js";
import type { Cache, ParamsLeftOut, Reading, Source, Write } from "../core/index.js";

/** Not for programs: they use `useCache`. */
export const CacheContext: Context<Cache | undefined> = createContext<Cache | undefined>(undefined);

/** Not for programs: the default texts of `Outcome`. */
export const TextsContext: Context<Texts> = createContext<Texts>(englishTexts);

/**
 * Gives a cache to all components beneath. Make the cache once, outside of components.
 * @param props `texts`: the texts of `Outcome`; a text that is left out stays English
 */
export function CistaProvider(props: {
  cache: Cache;
  texts?: Partial<Texts>;
  children?: ComponentChildren;
}): VNode<any> {
  const { cache, texts, children } = props;
  const above = useContext(TextsContext);
  const here = useMemo(() => ({ ...above, ...texts }), [above, texts]);
  const within = createElement(TextsContext.Provider, { value: here, children });
  return createElement(CacheContext.Provider, { value: cache, children: within });
}

/** The cache of the nearest provider. @throws CistaError code "no-provider" where there is none */
export function useCache(): Cache {
  return useCacheOr(undefined);
}

/** The cache that was given, or that of the nearest provider. */
export function useCacheOr(given: Cache | undefined): Cache {
  const provided = useContext(CacheContext);
  return (
    given ??
    provided ??
    refuseNoProvider(
      DEVELOPMENT &&
        "There is no cache here. Wrap the components that read from it: <CistaProvider cache={cache}>…</CistaProvider>, or pass { cache }.",
    )
  );
}

export interface ReadingOptions<T, U = T> extends BindingOptions<T, U> {
  /** Instead of the cache that was provided. */
  cache?: Cache;
}

/**
 * The reading of one entry. Attaches while mounted; renders again only when a member changes that the component has looked at.
 * Looked at later, in an event handler or an effect, it is the newest.
 * Params not known yet: pass `undefined` where the source needs some, and the reading is `empty`.
 * Where the source takes no params, the options may follow it: `useReading(huts, { pick })`.
 * @throws CistaError code "no-provider"; code "invalid-params" for params that cannot make a key
 * @example const reading = useReading(hut, { id });
 */
export function useReading<P, T, U = T>(
  source: Source<P, T>,
  ...rest: BindingParams<NoInfer<P>, ReadingOptions<T, U>>
): Reading<U>;
export function useReading(source: ParamsLeftOut): never;
export function useReading(source: any, ...given: [params?: any, options?: ReadingOptions<any, any>]): any {
  const rest = placeArguments(source, given);
  const { cache: own, ...options } = rest[1] ?? {};
  const cache = useCacheOr(own);
  refuseSourceOfRender(cache, source);
  const [, render] = useReducer<number, void>((count) => count + 1, 0);
  const ref = useRef<HookState>(null);
  ref.current ??= new HookState(() => render());
  const memory = ref.current;
  const known = rest.length === 0 || isKnown(source, rest[0]);
  const asked = memory.follower.ask(cache, source, rest[0], options, known);
  // In `useEffect` requests would start a frame later.
  // biome-ignore lint/correctness/useExhaustiveDependencies: attaches anew for what is asked for, as often as is said
  useLayoutEffect(() => memory.attach(), [asked, options.revalidateEvery]);
  useLayoutEffect(() => () => memory.follower.leave(), [memory]);
  return memory.show();
}

class HookState {
  readonly follower: Follower = new Follower(() => this.#changed());
  readonly #tracker = new AccessTracker();
  readonly #render: () => void;
  #shown: Reading<any> | undefined;

  constructor(render: () => void) {
    this.follower.isHydrating = true;
    this.#render = render;
  }

  show(): Reading<any> {
    const reading = this.follower.get();
    this.#shown = reading;
    return this.#tracker.track(reading, () => (this.follower.isAttached ? this.follower.get() : reading));
  }

  attach(): void {
    this.follower.attach();
    this.follower.isHydrating = false;
    this.#changed();
  }

  #changed(): void {
    if (!this.#shown || !this.#tracker.sameForRender(this.#shown, this.follower.get())) this.#render();
  }
}

/**
 * Runs a write, and tells how its runs stand. They go on when the component goes away. `run` never rejects.
 * @throws CistaError code "no-provider"
 * @example const [runBook, booking] = useWrite(book);
 */
export function useWrite<I, R>(
  write: Write<I, R>,
  options: { cache?: Cache } = {},
): readonly [run: RunWrite<I, R>, status: WriteStatus<R>] {
  const cache = useCacheOr(options.cache);
  const [, render] = useReducer<number, void>((count) => count + 1, 0);
  const runner = useMemo(() => new Runner<I, R>(write, () => render()), [write]);
  const run = useMemo(() => runner.runIn(() => cache), [cache, runner]);
  return [run, runner.status];
}

/**
 * The kept writes of an outbox (`openOutbox` of `cista/browser`): waiting, being sent or refused. Undefined while it is being opened.
 * @example const waiting = useOutbox(outbox);
 */
export function useOutbox<T>(outbox: Listed<T> | undefined): readonly T[] {
  const { subscribe, list } = outbox ?? nothingListed;
  const [, render] = useReducer<number, void>((count) => count + 1, 0);
  const shown = list();
  // biome-ignore lint/correctness/useExhaustiveDependencies: what was shown when it is listened to, once
  useLayoutEffect(() => {
    if (list() !== shown) render(); // changed before it was listened to
    return subscribe(() => render());
  }, [subscribe, list]);
  return shown;
}
