import { getAbortSignal, getContext, onMount, setContext, untrack } from "svelte";
import { createSubscriber } from "svelte/reactivity";
import {
  type Asked,
  Asking,
  intervalNow,
  isKnown,
  isWaiting,
  type LiveOptions,
  type LiveParams,
  type MaybeFollowed,
  placeFollowed,
  refuseNoProvider,
  refuseSourceOfRender,
  valueNow,
  valueOnServer,
  valueToShow,
} from "../binding/asked.js";
import { type Listed, nothingListed } from "../binding/listed.js";
import { makeLiveReading } from "../binding/live.js";
import type { Member } from "../binding/members.js";
import { Runner, type RunWrite, type WriteStatus } from "../binding/runner.js";
import { warnTakenApart } from "../binding/taken-apart.js";
import type { AnyReading } from "../core/doors/readings.js";
import type { Cache, ParamsLeftOut, Reading, Source, Write } from "../core/index.js";

/** Not for programs: they use `useCache`. */
export const cacheKey: unique symbol = Symbol("cista") as never;

/** Gives a cache to this component and all beneath. Make the cache once, outside of components. */
export function provideCache(cache: Cache): Cache {
  return setContext(cacheKey, cache);
}

/** The same for a whole page. @example mount(App, { target, context: contextOf(cache) }) */
export function contextOf(cache: Cache): Map<unknown, unknown> {
  return new Map([[cacheKey, cache]]);
}

/** The cache that was provided. @throws CistaError code "no-provider" where there is none */
export function useCache(): Cache {
  return (
    getContext<Cache | undefined>(cacheKey) ??
    refuseNoProvider(
      DEVELOPMENT && "There is no cache here. Call provideCache(cache) in a component above, or pass { cache }.",
    )
  );
}

export interface ReadingOptions<T, U = T> extends LiveOptions<T, U> {}

type GivenRest = [params?: any, options?: MaybeFollowed<ReadingOptions<any, any>>];

const inPage = typeof document === "object";

/**
 * The reading of one entry, always the newest: each member is tracked by itself. Attached while an effect or a template looks
 * at it. Narrow it in the template; taken apart, by `$derived`. Params not known yet: `undefined`, and the reading is `empty`.
 * Options that change: a function that returns them all. Where the source takes no params, the options may follow it.
 * @throws CistaError code "no-provider"; code "invalid-params" for params that cannot make a key
 * @example const reading = useReading(hut, () => ({ id }));
 */
export function useReading<P, T, U = T>(
  source: Source<P, T>,
  ...rest: LiveParams<NoInfer<P>, MaybeFollowed<ReadingOptions<T, U>>>
): Reading<U>;
export function useReading(source: ParamsLeftOut): never;
export function useReading(source: any, ...rest: GivenRest): any {
  return live(source, rest).reading;
}

/**
 * The value itself: `await promise` in a component inside of `<svelte:boundary>`, or `{#await}`; `current` is what is there now.
 * @throws as `useReading`
 * @example
 * const hutValue = useValue(hut, () => ({ id }));
 * const { name } = $derived((await hutValue.promise, hutValue.current));
 */
export function useValue<P, T, U = T>(
  source: Source<P, T>,
  ...rest: LiveParams<NoInfer<P>, MaybeFollowed<ReadingOptions<T, U>>>
): { readonly current: U; readonly promise: Promise<U> };
export function useValue(source: ParamsLeftOut): never;
export function useValue(source: any, ...rest: GivenRest): any {
  const { reading, lookers } = live(source, rest);
  const waited = async (its: Lookers) => {
    // One more subscription: while a component waits none of its effects runs, `onDestroy` among them.
    const gone = getAbortSignal();
    await new Promise<void>((resolve) =>
      gone.addEventListener(
        "abort",
        untrack(() => its.hold(resolve)),
      ),
    );
    return valueToShow(its.reading());
  };
  const promiseOf = (its: Lookers): Promise<unknown> => {
    const now = untrack(() => its.reading());
    if (!isWaiting(now)) return new Promise((resolve) => resolve(valueToShow(now)));
    return inPage ? waited(its) : its.shownOnServer();
  };
  return {
    get current() {
      return valueToShow(reading);
    },
    get promise() {
      const its = lookers();
      its.promise ??= promiseOf(its);
      its.promise.catch(() => {}); // Svelte may drop one for the next: what failed is told by the one that it waits for
      return its.promise;
    },
  };
}

function live(source: Source<any, any>, given: GivenRest) {
  const rest = placeFollowed(source, given);
  const optionsNow = (): ReadingOptions<any, any> => valueNow(rest[1]) ?? {};
  const { cache = useCache() } = untrack(optionsNow);
  refuseSourceOfRender(cache, source);
  const asking = new Asking();
  const all = new WeakMap<Asked, Lookers>();
  hydrate(asking, () => all.get(asking.asked as Asked)?.hydrated());
  /** The reading of the present entry: an effect that looks at it follows the values that the getters look at. */
  const lookers = () => {
    const { when = true, revalidateEvery, ...options } = optionsNow();
    const params = valueNow(rest[0]);
    const known = rest.length === 0 || isKnown(source, params);
    const before = asking.asked && untrack(() => asking.get().value);
    const now = { when: valueNow(when), revalidateEvery: intervalNow(revalidateEvery, before, params) };
    const asked = asking.ask(cache, source, params, { ...options, ...now }, known);
    const its = all.get(asked) ?? new Lookers(asking, asked);
    all.set(asked, its);
    its.applyInterval();
    return its;
  };
  const reading = makeLiveReading((member) => {
    if (DEVELOPMENT && asking.isHydrating && inPage && member !== "revalidate") noticeTakenApart(source.name, member);
    return lookers().look(member);
  });
  return { reading, lookers };
}

/** In development, in a component that is being made: an effect that follows nothing calls no subscriber. */
function noticeTakenApart(source: string, member: Member): void {
  let isTracked = false;
  createSubscriber(() => {
    isTracked = true;
  })();
  if (!isTracked)
    warnTakenApart(source, member, "a component's script", `const ${member} = $derived(reading.${member})`);
}

/** Shows the page's reading until the component is on the page; outside of components nothing is hydrated. */
function hydrate(asking: Asking, hydrated: () => void): void {
  asking.isHydrating = true;
  const done = () => {
    asking.isHydrating = false;
    hydrated();
  };
  try {
    onMount(done);
  } catch {
    done();
  }
}

/** Svelte refuses changes in the middle of a derived or a template (state_unsafe_mutation): told right after it. */
function tell(update: () => void): void {
  try {
    update();
  } catch {
    queueMicrotask(update);
  }
}

/** All who look at one entry through one reading: attached while there are any. */
class Lookers {
  readonly #asking: Asking;
  readonly #asked: Asked;
  readonly #subscribers = new Map<Member, () => void>();
  readonly #updates = new Map<Member, () => void>();
  #told: AnyReading | undefined;
  #leave: (() => void) | undefined;
  /** The promise for those who wait. */
  promise: Promise<unknown> | undefined;

  constructor(asking: Asking, asked: Asked) {
    this.#asking = asking;
    this.#asked = asked;
  }

  look(member: Member): AnyReading {
    let subscriber = this.#subscribers.get(member);
    if (!subscriber) {
      subscriber = createSubscriber((update) => this.#add(member, update));
      this.#subscribers.set(member, subscriber);
    }
    subscriber();
    return this.reading() as AnyReading;
  }

  reading(): Reading<any> {
    return this.#asking.get(this.#asked);
  }

  applyInterval(): void {
    if (this.#leave) this.#asked.applyInterval();
  }

  #add(member: Member, update: () => void): () => void {
    this.#updates.set(member, update);
    if (!this.#leave) {
      this.#leave = this.#asked.subscribe(this.#changed);
      this.applyInterval();
      this.#told = this.reading() as AnyReading;
    }
    return () => {
      this.#updates.delete(member);
      if (this.#updates.size > 0) return;
      this.#leave?.();
      this.#leave = undefined;
    };
  }

  readonly #changed = (): void => {
    const before = this.#told;
    const next = this.reading() as AnyReading;
    if (before === next) return;
    this.#told = next;
    for (const [member, update] of [...this.#updates]) if (before?.[member] !== next[member]) tell(update);
  };

  hydrated(): void {
    this.#changed();
  }

  async shownOnServer(): Promise<unknown> {
    await valueOnServer(this.#asked);
    return valueToShow(this.reading());
  }

  /** Attached from now on, whether anybody looks or not. */
  hold(shown: () => void): () => void {
    return this.#asked.subscribe(() => {
      if (!isWaiting(this.reading())) shown();
    });
  }
}

/**
 * Runs a write, and tells how its runs stand. They go on when the component goes away. `run` never rejects.
 * @throws CistaError code "no-provider"
 * @example const booking = useWrite(book); // <button onclick={() => booking.run({ hut, night })}>
 */
export function useWrite<I, R>(
  write: Write<I, R>,
  options: { cache?: Cache } = {},
): { readonly run: RunWrite<I, R>; readonly status: WriteStatus<R> } {
  const cache = options.cache ?? useCache();
  let update = () => {};
  const runner = new Runner<I, R>(write, () => tell(update));
  const track = createSubscriber((next) => {
    update = next;
    return () => {
      update = () => {};
    };
  });
  return {
    run: runner.runIn(() => cache),
    get status() {
      track();
      return runner.status;
    },
  };
}

/**
 * The kept writes of an outbox (`openOutbox` of `cista/browser`): waiting, being sent or refused. Undefined while it is being opened.
 * @example const waiting = useOutbox(() => outbox); // {#each waiting.current as kept (kept.id)}
 */
export function useOutbox<T>(outbox: Listed<T> | (() => Listed<T> | undefined)): { readonly current: readonly T[] } {
  const subscribers = new WeakMap<Listed<T>, () => void>();
  return {
    get current() {
      const listed = valueNow(outbox) ?? nothingListed;
      const track = subscribers.get(listed) ?? createSubscriber((update) => listed.subscribe(() => tell(update)));
      subscribers.set(listed, track);
      track();
      return listed.list();
    },
  };
}
