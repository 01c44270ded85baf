import { useContext, useEffect, useReducer, useRef } from "react";
import { AccessTracker } from "../binding/access-tracker.js";
import { type Asked, isKnown, isWaiting, refuseSourceOfRender } from "../binding/asked.js";
import { Follower } from "../binding/follower.js";
import type { Cache, Reading, Source } from "../core/index.js";
import { useCacheOr } from "./context.js";
import { readingOnServer, refuseLeft } from "./page-reading.js";
import { attachedIn, awaitedReading, endWaiting, HolderContext, valueBeneath, waitFor } from "./suspended.js";
import { type ReadingOptions, useEarlyEffect } from "./use-reading.js";

/** A source with the params that are asked for; without params the source alone. */
export type ReadingSpec = readonly [source: Source<any, any>, params?: any] | readonly [source: Source<any, any>];

/** Of each question its reading, in order. */
export type ReadingsOf<Q extends readonly ReadingSpec[]> = { -readonly [I in keyof Q]: Reading<ValueAsked<Q[I]>> };
/** Of each question its value, in order. */
export type ValuesOf<Q extends readonly ReadingSpec[]> = { -readonly [I in keyof Q]: ValueAsked<Q[I]> };
type ValueAsked<Q> = Q extends readonly [Source<any, infer T>, ...unknown[]] ? T : never;
/** What is wrong with a question's params is said of them. */
type Checked<Q extends readonly ReadingSpec[]> = { readonly [I in keyof Q]: CheckedQuestion<Q[I]> };
type CheckedQuestion<Q> = Q extends readonly [Source<infer P, infer T>, ...unknown[]]
  ? 0 extends 1 & P
    ? Q
    : [P] extends [void]
      ? readonly [Source<P, T>, undefined?]
      : undefined extends P
        ? readonly [Source<P, T>, P?]
        : readonly [Source<P, T>, P | undefined]
  : never;

/**
 * Several readings in one component: of one source with a list of params that may grow and shrink, or of several sources.
 * Each is asked for at once, and like any reading; the component renders again only for members that it has looked at.
 * @throws as `useReading`
 * @example
 * const readings = useReadings(hut, ids.map((id) => ({ id })));
 * const [one, weather] = useReadings([[hut, { id }], [forecast]]);
 */
export function useReadings<P, T, U = T>(
  source: Source<P, T>,
  paramsList: readonly NoInfer<P>[],
  options?: Omit<ReadingOptions<T, U>, "carryOver">,
): readonly Reading<U>[];
export function useReadings<const Q extends readonly ReadingSpec[]>(questions: Q & Checked<Q>): ReadingsOf<Q>;
export function useReadings(first: any, paramsList?: readonly any[], options: ReadingOptions<any, any> = usual): any {
  return useReadingList(questionsOf(first, paramsList), options).readings;
}

/**
 * Several values, asked for at once, inside of `Boundary` (or Suspense and an error boundary): see `useValue`.
 * @throws as `useValue`
 * @example const [{ name }, weather] = useValues([[hut, { id }], [forecast]]);
 */
export function useValues<P, T, U = T>(
  source: Source<P, T>,
  paramsList: readonly NoInfer<P>[],
  options?: Omit<ReadingOptions<T, U>, "carryOver">,
): readonly U[];
export function useValues<const Q extends readonly ReadingSpec[]>(questions: Q & Checked<Q>): ValuesOf<Q>;
export function useValues(first: any, paramsList?: readonly any[], options: ReadingOptions<any, any> = usual): any {
  const cache = useCacheOr(options.cache);
  const holder = useContext(HolderContext);
  const { readings, list } = useReadingList(questionsOf(first, paramsList), options);
  const shown = readings.every((reading) => !isWaiting(reading));
  useEffect(() => {
    if (shown) for (const { view } of list) endWaiting(cache, view.key);
  }, [cache, list, shown]);
  const came = readings.map((own) => {
    const awaited = isWaiting(own) ? awaitedReading(cache, own.key) : undefined;
    return awaited?.state === "failed" ? awaited : own;
  });
  for (const { state, value, key } of came) if (state !== "ready" && value === undefined) holder?.refuseFailed(key);
  const values = came.map((reading) => (isWaiting(reading) ? undefined : valueBeneath(holder, reading))); // what has failed is told before the others have come
  for (const { view } of list) refuseLeft(cache, view.key);
  const waiting = list.filter((_, index) => isWaiting(came[index]));
  const awaited = waiting.map(({ view }) => waitFor(cache, view, holder));
  if (awaited.length > 0) throw Promise.race(awaited); // by the first: it may have failed
  return values;
}

const usual: ReadingOptions<any, any> = {};

function questionsOf(first: any, paramsList: readonly any[] | undefined): readonly ReadingSpec[] {
  return paramsList === undefined ? first : paramsList.map((params) => [first, params]);
}

function useReadingList(questions: readonly ReadingSpec[], options: ReadingOptions<any, any>) {
  const cache = useCacheOr(options.cache);
  const [, render] = useReducer((count: number) => count + 1, 0);
  const ref = useRef<ReadingList>(undefined);
  ref.current ??= new ReadingList(render);
  const memory = ref.current;
  const list = memory.ask(cache, questions, options);
  useEarlyEffect(() => memory.attach(list)); // strict mode leaves and comes back
  useEarlyEffect(() => () => memory.leave(), []);
  return { readings: memory.look(options), list };
}

/** One of the entries that a component asks for. */
class Item extends AccessTracker {
  readonly follower: Follower;
  #shown: Reading<any> | undefined;

  constructor(render: () => void) {
    super();
    this.follower = new Follower(() => {
      if (this.#isChanged()) render();
    });
    this.follower.isHydrating = true;
  }

  look(asked: Asked, options: ReadingOptions<any, any>): Reading<any> {
    const waits = readingOnServer(asked, options);
    if (waits) return waits;
    const reading = this.follower.get(asked);
    this.#shown = reading;
    return this.track(reading, () => (this.follower.isAttached ? this.follower.get() : reading));
  }

  /** @returns whether what was rendered before it was attached is no longer so */
  attach(): boolean {
    this.follower.attach();
    this.follower.isHydrating = false;
    return this.#isChanged();
  }

  #isChanged(): boolean {
    return this.#shown !== undefined && !this.sameForRender(this.#shown, this.follower.get());
  }
}

/** What one component's hook remembers of all that it asks for, by their keys. */
class ReadingList {
  readonly #render: () => void;
  #items = new Map<string, Item>();
  /** Those that were asked for last, in order. */
  #list: readonly Asked[] = [];
  /** Those that are on the page. */
  #attached = new Set<Item>();

  constructor(render: () => void) {
    this.#render = render;
  }

  /** The same list for as long as the same is asked for in the same order. */
  ask(cache: Cache, questions: readonly ReadingSpec[], options: ReadingOptions<any, any>): readonly Asked[] {
    const { carryOver, ...rest } = options;
    const items = new Map<string, Item>();
    const list = questions.map((question) => {
      const [source, params] = question;
      refuseSourceOfRender(cache, source);
      const known = question.length === 1 || isKnown(source, params);
      const before = known ? this.#items.get(cache.at(source, params).key) : undefined;
      const item = before ?? new Item(this.#render);
      const asked = item.follower.ask(cache, source, params, rest, known, attachedIn);
      items.set(asked.view.key, item);
      return asked;
    });
    this.#items = items;
    if (list.length !== this.#list.length || list.some((asked, index) => asked !== this.#list[index]))
      this.#list = list;
    return this.#list;
  }

  look(options: ReadingOptions<any, any>): Reading<any>[] {
    return this.#list.map((asked) => this.#itemOf(asked).look(asked, options));
  }

  /** Attaches to what is new, then leaves what is no longer asked for. What changed meanwhile is shown. */
  attach(list: readonly Asked[]): void {
    const items = new Set(list.map((asked) => this.#itemOf(asked)));
    const changed = [...items].map((item) => item.attach());
    for (const item of this.#attached) if (!items.has(item)) item.follower.leave();
    this.#attached = items;
    if (changed.includes(true)) this.#render();
  }

  leave(): void {
    for (const { follower } of this.#attached) follower.leave();
    this.#attached = new Set();
  }

  #itemOf({ view }: Asked): Item {
    return this.#items.get(view.key) as Item;
  }
}
