import { useCallback, useEffect, useState, useSyncExternalStore } from "react";
import type { Cache, Reading, Source, View, ViewOptions } from "../core/index.js";
import { picked } from "../core/picking.js";
import type { AnyReading } from "../core/reading.js";
import { useCache } from "./context.js";
import { inDevelopmentOnly } from "./development.js";
import { Lookout } from "./tracked.js";

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
  const [params, { when = true, pick, carryOver = false } = {}] = rest;
  const cache = useCache();
  const known = params !== undefined || rest.length === 0 || !needsParams(source);
  const [memory] = useState(() => new Memory());
  const view = memory.viewOf(cache, source, params, known, when);
  inDevelopmentOnly(({ sawParams }) => sawParams(memory, source.name, view.key));

  const subscribe = useCallback((listener: () => void) => view.subscribe(listener), [view]);
  const look = memory.lookFor(view, source, pick, carryOver);
  const reading = useSyncExternalStore(subscribe, look, look);
  // Remembered only where it may be carried over: an effect less for all others.
  const kept = carryOver ? reading : undefined;
  useEffect(() => {
    if (kept) memory.keep(source, kept);
  }, [memory, source, kept]);
  return memory.lookout.over(reading);
}

/** What one component's hook remembers between renders. Forgetting any of it would cost a render, nothing else. */
class Memory {
  readonly lookout: Lookout = new Lookout();
  #part: AnyReading | undefined;
  /** The last value that was on the page, to be carried over to other params of the same source. */
  #kept: { source: unknown; key: string; value: unknown } | undefined;
  #carried: { from: Reading<any>; reading: Reading<any> } | undefined;
  #asked:
    | { cache: Cache; source: unknown; params: unknown; known: boolean; when: boolean; view: View<any> }
    | undefined;

  /**
   * One view for as long as it is of the same entry, however often the params are spelled anew: the key stands for them.
   * What was asked is remembered for each render, also one that never reaches the page: all of it only spares work.
   */
  viewOf(cache: Cache, source: Source<any, any>, params: unknown, known: boolean, when: boolean): View<any> {
    const before = this.#asked;
    const alike = before?.cache === cache && before.source === source && before.known === known && before.when === when;
    if (alike && Object.is(before.params, params)) return before.view;
    const view = known ? cache.view(source, params, { when }) : nothingAsked(source.name);
    if (alike && before.view.key === view.key) {
      before.params = params;
      return before.view;
    }
    this.#asked = { cache, source, params, known, when, view };
    return view;
  }

  /**
   * What React compares. The first look of a render is the newest reading; later ones are the same object until a
   * member changes that the component has looked at.
   */
  lookFor(
    view: View<any>,
    source: unknown,
    pick: ((value: any) => unknown) | undefined,
    carryOver: boolean,
  ): () => Reading<any> {
    let rendered: Reading<any> | undefined;
    return () => {
      let next = view.get();
      if (pick) next = this.#part = picked(next as AnyReading, pick, this.#part) as any;
      if (carryOver) next = this.#carriedOver(next, source);
      if (rendered && this.lookout.alike(rendered, next)) return rendered;
      rendered ??= next;
      return next;
    };
  }

  /** After a render reached the page. */
  keep(source: unknown, reading: Reading<any>): void {
    if (reading.state === "ready") this.#kept = { source, key: reading.key, value: reading.value };
  }

  #carriedOver(reading: Reading<any>, source: unknown): Reading<any> {
    const kept = this.#kept;
    const fits = reading.state === "loading" && reading.value === undefined && kept?.source === source;
    if (!fits || kept?.key === reading.key) return reading;
    if (this.#carried?.from !== reading) {
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
