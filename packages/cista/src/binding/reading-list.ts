/** Several readings of one component, in a number that may change: for frameworks that render a component again as a whole. */
import type { Cache, Reading, Source } from "../core/index.js";
import { AccessTracker } from "./access-tracker.js";
import { type Asked, type AttachedView, type BindingOptions, isKnown, refuseSourceOfRender } from "./asked.js";
import { Follower } from "./follower.js";

/** A source with the params that are asked for; without params the source alone. */
export type ReadingSpec = readonly [source: Source<any, any>, params?: any] | readonly [source: Source<any, any>];

/** Of each one its reading, in order. */
export type ReadingsOf<Q extends readonly ReadingSpec[]> = { -readonly [I in keyof Q]: Reading<ValueAsked<Q[I]>> };
/** Of each one its value, in order. */
export type ValuesOf<Q extends readonly ReadingSpec[]> = { -readonly [I in keyof Q]: ValueAsked<Q[I]> };
type ValueAsked<Q> = Q extends readonly [Source<any, infer T>, ...unknown[]] ? T : never;
/** An error in the params of one reading names that reading. */
export type CheckedSpecs<Q extends readonly ReadingSpec[]> = { readonly [I in keyof Q]: CheckedSpec<Q[I]> };
type CheckedSpec<Q> = Q extends readonly [Source<infer P, infer T>, ...unknown[]]
  ? 0 extends 1 & P
    ? Q
    : [P] extends [void]
      ? readonly [Source<P, T>, undefined?]
      : undefined extends P
        ? readonly [Source<P, T>, P?]
        : readonly [Source<P, T>, P | undefined]
  : never;

export function specsOf(first: any, paramsList: readonly any[] | undefined): readonly ReadingSpec[] {
  return paramsList === undefined ? first : paramsList.map((params) => [first, params]);
}

/** The functions that a framework adds: views that are attached before a component is shown, and the readings of its renderer on a server. */
export interface ReadingListSeam {
  readonly attached?: AttachedView;
  readonly onServer?: (asked: Asked, options: BindingOptions<any, any>) => Reading<any> | undefined;
}

/** One of the entries that a component asks for. */
class Item extends AccessTracker {
  readonly follower: Follower;
  readonly #seam: ReadingListSeam;
  #shown: Reading<any> | undefined;

  constructor(render: () => void, seam: ReadingListSeam) {
    super();
    this.#seam = seam;
    this.follower = new Follower(() => {
      if (this.#isChanged()) render();
    });
    this.follower.isHydrating = true;
  }

  look(asked: Asked, options: BindingOptions<any, any>): Reading<any> {
    const waits = this.#seam.onServer?.(asked, options);
    if (waits) return waits;
    const reading = this.follower.get(asked);
    this.#shown = reading;
    return this.track(reading, () => (this.follower.isAttached ? this.follower.get() : reading));
  }

  /** @returns whether a reading that was rendered before it was attached has changed */
  attach(): boolean {
    this.follower.attach();
    this.follower.isHydrating = false;
    return this.#isChanged();
  }

  #isChanged(): boolean {
    return this.#shown !== undefined && !this.sameForRender(this.#shown, this.follower.get());
  }
}

/** The state of one component for all entries that it asks for, by their keys. */
export class ReadingList {
  readonly #render: () => void;
  readonly #seam: ReadingListSeam;
  #items = new Map<string, Item>();
  /** Those that were asked for last, in order. */
  #list: readonly Asked[] = [];
  /** Those that are on the page. */
  #attached = new Set<Item>();

  /**
   * @param render to be called when something changes that was looked at
   * @param seam the functions that a framework adds
   */
  constructor(render: () => void, seam: ReadingListSeam = {}) {
    this.#render = render;
    this.#seam = seam;
  }

  /** The same list for as long as the same is asked for in the same order. */
  ask(cache: Cache, specs: readonly ReadingSpec[], options: BindingOptions<any, any>): readonly Asked[] {
    const { carryOver, ...rest } = options;
    const items = new Map<string, Item>();
    const list = specs.map((spec) => {
      const [source, params] = spec;
      refuseSourceOfRender(cache, source);
      const known = spec.length === 1 || isKnown(source, params);
      const before = known ? this.#items.get(cache.at(source, params).key) : undefined;
      const item = before ?? new Item(this.#render, this.#seam);
      const asked = item.follower.ask(cache, source, params, rest, known, this.#seam.attached);
      items.set(asked.view.key, item);
      return asked;
    });
    this.#items = items;
    if (list.length !== this.#list.length || list.some((asked, index) => asked !== this.#list[index]))
      this.#list = list;
    return this.#list;
  }

  look(options: BindingOptions<any, any>): Reading<any>[] {
    return this.#list.map((asked) => this.#itemOf(asked).look(asked, options));
  }

  /** Attaches to new entries, then leaves those that are no longer asked for. Changes made meanwhile are shown. */
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
