// biome-ignore-all lint/correctness/useHookAtTopLevel: a cache is on a server for good, where there are no hooks, or it is not
/** A reading in a component of React. Rules R4, N4, H6. */
import { useEffect, useLayoutEffect, useRef, useSyncExternalStore } from "react";
import { AccessTracker } from "../binding/access-tracker.js";
import {
  type Asked,
  Asking,
  type AttachedView,
  type BindingOptions,
  type BindingParams,
  isKnown,
  placeArguments,
  refuseSourceOfRender,
} from "../binding/asked.js";
import { renderingOf } from "../core/doors/page.js";
import { type AnyReading, picked } from "../core/doors/readings.js";
import type { Cache, ParamsLeftOut, Reading, Source, View } from "../core/index.js";
import { useCacheOr } from "./context.js";
import { inDevelopmentOnly } from "./development.js";
import { askOnServer } from "./page-reading.js";

export interface ReadingOptions<T, U = T> extends BindingOptions<T, U> {
  /** Instead of the cache that was provided. */
  cache?: Cache | undefined;
}

/**
 * The reading of one entry. Attaches while mounted; components with the same source and params share one request and
 * one value. Renders again only when a member of the reading changes that the component has looked at. Looked at later, in
 * an event handler or an effect, it is the newest.
 * Params not known yet: pass `undefined` where the source needs some, and the reading is `empty` and asks for nothing.
 * Where the source takes no params, the options may follow it: `useReading(huts, { pick })`.
 * @throws CistaError code "no-provider"; code "invalid-params" for params that cannot make a key; in development, code "source-in-render"
 * for one that is defined during a render
 * @example const reading = useReading(hut, { id });
 */
export function useReading<P, T, U = T>(
  source: Source<P, T>,
  ...rest: BindingParams<NoInfer<P>, ReadingOptions<T, U>>
): Reading<U>;
export function useReading(source: ParamsLeftOut): never;
export function useReading(source: any, ...rest: [params?: any, options?: ReadingOptions<any, any>]): any {
  return useReadingOn(undefined, source, placeArguments(source, rest)).reading;
}

/** The reading, and the view that it is of; for `useValue` too, whose component waits on a view that is attached before it is shown. */
export function useReadingOn(
  attachedView: AttachedView | undefined,
  source: Source<any, any>,
  rest: readonly [params?: any, options?: ReadingOptions<any, any>],
): { readonly reading: any; readonly view: View<any> } {
  const [params, options = usual] = rest;
  const cache = useCacheOr(options.cache);
  refuseSourceOfRender(cache, source);
  const known = rest.length === 0 || isKnown(source, params);
  const page = renderingOf(cache);
  if (page?.onServer) return askOnServer(page, cache, source, params, known, options);
  const ref = useRef<HookState>(undefined);
  ref.current ??= new HookState();
  const memory = ref.current;
  const asked = memory.asking.ask(cache, source, params, options, known, attachedView);
  inDevelopmentOnly(({ sawParams }) => sawParams(memory, source.name, asked.view.key));
  const current = memory.currentFor(asked);
  const look = options.pick || options.carryOver ? memory.readingSelector(asked, options) : current.look;
  current.options = options;
  current.rendering = true;
  useEarlyEffect(current.attach, [current, options.revalidateEvery]);
  const sent = page
    ? () => {
        const shown = known ? page.peek(asked.view, source, asked.when, asked.onServer) : undefined;
        return memory.sent(shown, current, options) ?? look();
      }
    : look;
  const reading = useSyncExternalStore(current.subscribe, look, sent);
  return { reading: memory.track(reading, current.newest), view: asked.view };
}

const usual: ReadingOptions<any, any> = {};

/**
 * A component attaches before the browser paints, so that its request does not wait for that: React subscribes to a store
 * only afterwards. (On a server neither effect runs, and React 18 would warn of the one.)
 */
export const useEarlyEffect: typeof useEffect = typeof document === "undefined" ? useEffect : useLayoutEffect;

/** The state of one component's hook between renders. Forgetting any of it would cost a render, nothing else. */
class HookState extends AccessTracker {
  readonly asking: Asking = new Asking();
  #sentOf: Reading<any> | undefined;
  #sent: Reading<any> | undefined;
  #current: Current | undefined;

  currentFor(asked: Asked): Current {
    if (this.#current?.asked !== asked) this.#current = new Current(asked, this);
    return this.#current;
  }

  /** The reading that React hydrates with: the page's, where the page has one. The same object for the same reading. */
  sent(page: Reading<any> | undefined, current: Current, { pick }: ReadingOptions<any, any>): Reading<any> | undefined {
    if (!page) return undefined;
    if (this.#sentOf !== page) this.#sent = pick ? (picked(page as AnyReading, pick, undefined) as Reading<any>) : page;
    this.#sentOf = page;
    current.hydrateWith(this.#sent as Reading<any>);
    return this.#sent;
  }

  /** For a render with a `pick` of its own: each render compares by its own part. */
  readingSelector(asked: Asked, options: ReadingOptions<any, any>): () => Reading<any> {
    let rendered: Reading<any> | undefined;
    return () => {
      const next = this.asking.get(asked, options);
      rendered ??= this.#sent;
      this.#sent = this.#sentOf = undefined; // once, when hydration is over
      if (rendered && this.sameForRender(rendered, next)) return rendered;
      rendered ??= next;
      return next;
    };
  }
}

/** The functions for React of one entry. They are the same for as long as the entry is the same. */
class Current {
  readonly asked: Asked;
  /** The options of the last render. */
  options = usual;
  /** Whether the next look is the first of a render. */
  rendering = true;
  readonly #state: HookState;
  #shown: Reading<any> | undefined;
  /** React's own listener, once it has subscribed. A change before that React finds by looking. */
  #listener: (() => void) | undefined;
  /** Ends the watching; undefined while it is not attached. */
  #detach: (() => void) | undefined;

  constructor(asked: Asked, state: HookState) {
    this.asked = asked;
    this.#state = state;
  }

  /**
   * Before the browser paints; handed over to React's own subscription when that comes. Returns the end of what was not
   * handed over: a subtree that Suspense hides goes on watching. React calls it again when the component says another interval.
   */
  readonly attach = (): (() => void) => {
    this.#detach ??= this.asked.subscribe(() => this.#listener?.());
    this.asked.applyInterval();
    return () => {
      if (!this.#listener) this.#leave();
    };
  };

  readonly subscribe = (listener: () => void): (() => void) => {
    this.attach();
    this.#listener = listener;
    return () => {
      this.#listener = undefined;
      this.#leave();
    };
  };

  /**
   * What the page shows is what was rendered: a component renders again only for a member that is another now. Else React would
   * render anew, and with it, here, what is still on its way from the server beneath it.
   */
  hydrateWith(page: Reading<any>): void {
    this.#shown = page;
    this.rendering = false;
  }

  /**
   * What React compares. The first look of a render is the newest reading; later ones are the same object until a
   * member changes that the component has looked at.
   */
  readonly look = (): Reading<any> => {
    const next = this.asked.view.get();
    if (this.#shown && !this.rendering && this.#state.sameForRender(this.#shown, next)) return this.#shown;
    this.rendering = false;
    this.#shown = next;
    return next;
  };

  /** For looks after the render. Of an entry that is not attached any more, as it was rendered. */
  readonly newest = (): Reading<any> => {
    if (this.#detach) return this.#state.asking.get(this.asked, this.options);
    return this.#shown ?? this.#state.asking.get(this.asked, this.options);
  };

  #leave(): void {
    this.#detach?.();
    this.#detach = undefined;
  }
}
