import { useEffect, useLayoutEffect, useRef, useSyncExternalStore } from "react";
import type { Cache, Reading, Source, View, ViewOptions } from "../core/index.js";
import { type AnyReading, picked } from "../core/internal.js";
import { useCache } from "./context.js";
import { inDevelopmentOnly } from "./development.js";
import { AccessTracker } from "./tracked.js";

export interface ReadingOptions<T, U = T> extends ViewOptions<T, U> {
  /** While new params load, keep the last value, as `loading` with `provisional: "carried"`. */
  carryOver?: boolean;
}

/**
 * The reading of one entry. Attaches while mounted; components with the same source and params share one request and
 * one value. Renders again only when a member of the reading changes that the component has looked at.
 * Params not known yet: pass `undefined` where the source needs some, and the reading is `empty` and asks for nothing.
 * @throws CistaError code "no-provider"; code "params" for params that cannot make a key
 */
export function useReading<P, T, U = T>(
  source: Source<P, T>,
  ...rest: 0 extends 1 & P
    ? [params?: any, options?: ReadingOptions<T, U>]
    : [P] extends [void]
      ? [params?: undefined, options?: ReadingOptions<T, U>]
      : [params: P | undefined, options?: ReadingOptions<T, U>]
): Reading<U>;
export function useReading(source: Source<any, any>, ...rest: [params?: any, options?: ReadingOptions<any, any>]): any {
  return useReadingOn(undefined, source, rest).reading;
}

/** A view that somebody has attached already for components that wait to be shown, if there is one. */
export type AttachedView = (cache: Cache, key: string) => View<any> | undefined;

/** The same, for `useValue` too, whose component waits on a view that is attached before it is shown itself. */
export function useReadingOn(
  attachedView: AttachedView | undefined,
  source: Source<any, any>,
  rest: readonly [params?: any, options?: ReadingOptions<any, any>],
): { readonly reading: any; readonly view: View<any> } {
  const params = rest[0];
  const options = rest[1] ?? usual;
  const cache = useCache();
  const ref = useRef<HookState>(undefined);
  ref.current ??= new HookState();
  const memory = ref.current;
  const current = memory.viewFor(
    cache,
    source,
    params,
    params !== undefined || rest.length === 0 || !needsParams(source),
    options,
    attachedView,
  );
  inDevelopmentOnly(({ sawParams }) => sawParams(memory, source.name, current.view.key));
  const look = options.pick || options.carryOver ? memory.readingSelector(current, options) : current.look;
  current.rendering = true;
  useEarlyEffect(current.attach, [current]);
  return { reading: memory.track(useSyncExternalStore(current.subscribe, look, look)), view: current.view };
}

const usual: ReadingOptions<any, any> = {};

/**
 * A component attaches before the browser paints, so that its request does not wait for that: React subscribes to a store
 * only afterwards. (On a server neither effect runs, and React 18 would warn of the one.)
 */
const useEarlyEffect = typeof document === "undefined" ? useEffect : useLayoutEffect;

/** One component's view, and what it was made for. */
interface CurrentView {
  readonly cache: Cache;
  readonly source: Source<any, any>;
  params: unknown;
  readonly known: boolean;
  readonly when: boolean;
  readonly view: View<any>;
  /** All three are the same functions for as long as it is the same view. */
  attach(): () => void;
  subscribe(listener: () => void): () => void;
  look(): Reading<any>;
  /** What `look` last returned; whether the next look is the first of a render. */
  shown?: Reading<any>;
  rendering?: boolean;
  /** React's own listener, once it has subscribed. What changes before that React finds by looking. */
  listener?: (() => void) | undefined;
  /** Ends the watching; undefined while it is not attached. */
  detach?: (() => void) | undefined;
}

/** What one component's hook remembers between renders. Forgetting any of it would cost a render, nothing else. */
class HookState extends AccessTracker {
  #current: CurrentView | undefined;
  #part: AnyReading | undefined;
  /** What is on the page: attached, until another view is. */
  #attached: CurrentView | undefined;
  /** The last value that was there under another key, to be carried over to other params of the same source. */
  #kept: { readonly source: unknown; readonly value: unknown } | undefined;
  #carried: { from: Reading<any>; reading: Reading<any> } | undefined;

  /**
   * One view for as long as it is of the same entry, however often the params are spelled anew: the key stands for them.
   * What was asked is remembered for each render, also one that never reaches the page: all of it only spares work.
   */
  viewFor(
    cache: Cache,
    source: Source<any, any>,
    params: unknown,
    known: boolean,
    options: ReadingOptions<any, any>,
    attachedView: AttachedView | undefined,
  ): CurrentView {
    const before = this.#current;
    const { when = true } = options;
    const alike = before?.cache === cache && before.source === source && before.known === known && before.when === when;
    const awaited = alike ? attachedView?.(cache, before.view.key) : undefined;
    if (alike && before.params === params && (!awaited || awaited === before.view)) return before;
    const own = known ? cache.view(source, params, { when }) : nothingAsked(source.name);
    const view = attachedView?.(cache, own.key) ?? own;
    if (alike && before.view.key === view.key && (view === own || view === before.view)) {
      before.params = params;
      return before;
    }
    const current: CurrentView = {
      cache,
      source,
      params,
      known,
      when,
      view,
      attach: () => this.#attach(current),
      subscribe: (listener) => this.#subscribe(current, listener),
      look: () => this.#lookAt(current),
    };
    this.#current = current;
    return current;
  }

  /**
   * Before the browser paints; handed over to React's own subscription when that comes. Returns the end of what was not
   * handed over: a subtree that Suspense hides goes on watching.
   */
  #attach(current: CurrentView): () => void {
    current.detach ??= current.view.subscribe(() => current.listener?.());
    this.#attached = current;
    return () => {
      if (!current.listener) this.#detach(current);
    };
  }

  #subscribe(current: CurrentView, listener: () => void): () => void {
    this.#attach(current);
    current.listener = listener;
    return () => {
      current.listener = undefined;
      this.#detach(current);
    };
  }

  #detach(current: CurrentView): void {
    if (!current.detach) return;
    this.#keepFrom(current);
    current.detach();
    current.detach = undefined;
  }

  #keepFrom({ view, source }: CurrentView): void {
    const { state, value } = view.get();
    if (state === "ready") this.#kept = { source, value };
  }

  /**
   * What React compares. The first look of a render is the newest reading; later ones are the same object until a
   * member changes that the component has looked at.
   */
  #lookAt(current: CurrentView): Reading<any> {
    const next = current.view.get();
    const { shown } = current;
    if (shown && !current.rendering && this.sameForRender(shown, next)) return shown;
    current.rendering = false;
    current.shown = next;
    return next;
  }

  /** The same where a render says what to make of the reading: each compares by what it said itself. */
  readingSelector({ view, source }: CurrentView, { pick, carryOver }: ReadingOptions<any, any>): () => Reading<any> {
    let rendered: Reading<any> | undefined;
    return () => {
      let next = view.get();
      if (carryOver) next = this.#carriedOver(next, view, source);
      if (pick) {
        this.#part = picked(next as AnyReading, pick, this.#part);
        next = this.#part as Reading<any>;
      }
      if (rendered && this.sameForRender(rendered, next)) return rendered;
      rendered ??= next;
      return next;
    };
  }

  /** What is on the page under another key is still attached while the new one is first rendered; afterwards it is kept. */
  #carriedOver(reading: Reading<any>, { key }: View<any>, source: unknown): Reading<any> {
    if (reading.state !== "loading") this.#kept = undefined;
    if (reading.state !== "loading" || reading.value !== undefined) return reading;
    if (this.#attached && this.#attached.view.key !== key) this.#keepFrom(this.#attached);
    const kept = this.#kept;
    if (kept?.source !== source) return reading;
    if (this.#carried?.from !== reading || this.#carried.reading.value !== kept?.value) {
      this.#carried = { from: reading, reading: { ...reading, value: kept?.value, provisional: "carried" } };
    }
    return this.#carried.reading;
  }
}

function needsParams({ definition }: Source<any, any>): boolean {
  return definition.params !== false && definition.load.length > 0;
}

/** Stands in for a view while the params are not known. */
function nothingAsked(name: string): View<any> {
  const reading: Reading<any> = { key: name, state: "empty", request: "none", revalidate: async () => {} };
  return { key: name, get: () => reading, subscribe: () => () => {}, revalidate: async () => reading };
}
