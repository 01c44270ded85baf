import {
  type Accessor,
  batch,
  type Context,
  createComponent,
  createComputed,
  createContext,
  createMemo,
  createResource,
  createSignal,
  getListener,
  getOwner,
  type JSX,
  onCleanup,
  onMount,
  sharedConfig,
  untrack,
  useContext,
} from "solid-js";
import { isServer } from "solid-js/web";
import {
  intervalNow,
  isKnown,
  isWaiting,
  type LiveOptions,
  type LiveParams,
  type MaybeFollowed,
  placeFollowed,
  refuseNoProvider,
  refuseSourceOfRender,
  shownOnPage,
  valueNow,
  valueOnServer,
  valueToShow,
} from "../binding/asked.js";
import { type Listed, nothingListed } from "../binding/listed.js";
import { Live, makeLiveReading, type Signal } from "../binding/live.js";
import type { Member } from "../binding/members.js";
import { Runner, type RunWrite, type WriteStatus } from "../binding/runner.js";
import { warnTakenApart } from "../binding/taken-apart.js";
import { englishTexts, type Texts } from "../binding/texts.js";
import { tellWithin } from "../core/doors/readings.js";
import type { Cache, ParamsLeftOut, Reading, Source, Write } from "../core/index.js";

/** Not for programs: they use `useCache`. */
export const CacheContext: Context<Cache | undefined> = createContext<Cache>();

/** Not for programs: the default texts of `Outcome`. */
export const TextsContext: Context<Texts> = createContext<Texts>(englishTexts);

/**
 * Gives a cache to all components beneath. Make the cache once, outside of components.
 * @param props `texts`: the texts of `Outcome`; a text that is left out stays English
 */
export function CistaProvider(props: { cache: Cache; texts?: Partial<Texts>; children?: JSX.Element }): JSX.Element {
  const above = useContext(TextsContext);
  return createComponent(CacheContext.Provider, {
    get value() {
      return props.cache;
    },
    get children() {
      return createComponent(TextsContext.Provider, {
        get value() {
          return { ...above, ...props.texts };
        },
        get children() {
          return props.children;
        },
      });
    },
  });
}

/** The cache of the nearest provider. @throws CistaError code "no-provider" where there is none */
export function useCache(): Cache {
  return (
    useContext(CacheContext) ??
    refuseNoProvider(
      DEVELOPMENT &&
        "There is no cache here. Wrap the components that read from it: <CistaProvider cache={cache}>…</CistaProvider>, or pass { cache }.",
    )
  );
}

export interface ReadingOptions<T, U = T> extends LiveOptions<T, U> {}

type GivenRest = [params?: any, options?: MaybeFollowed<ReadingOptions<any, any>>];

/**
 * The reading of one entry, always the newest: each member is tracked by itself, as with props. Keep it whole, as these.
 * Attached until its owner is cleaned up. Params not known yet: `undefined`, and the reading is `empty`. Options that change: a
 * function that returns them all. Where the source takes no params, the options may follow it.
 * @throws CistaError code "no-provider"; code "invalid-params" for params that cannot make a key
 * @example const reading = createReading(hut, () => ({ id: props.id }));
 */
export function createReading<P, T, U = T>(
  source: Source<P, T>,
  ...rest: LiveParams<NoInfer<P>, MaybeFollowed<ReadingOptions<T, U>>>
): Reading<U>;
export function createReading(source: ParamsLeftOut): never;
export function createReading(source: any, ...rest: GivenRest): any {
  return liveReading(source, rest).reading;
}

/**
 * The value itself: suspends while loading, throws the failure to the ErrorBoundary.
 * @throws as `createReading`
 * @example const value = createValue(hut, () => ({ id: props.id }));
 */
export function createValue<P, T, U = T>(
  source: Source<P, T>,
  ...rest: LiveParams<NoInfer<P>, MaybeFollowed<ReadingOptions<T, U>>>
): Accessor<U>;
export function createValue(source: ParamsLeftOut): never;
export function createValue(source: any, ...rest: GivenRest): any {
  const { reading, live, asked } = liveReading(source, rest);
  // The value is kept in Solid's own resource, which knows of Suspense and transitions; later changes are put into it.
  const [value, { mutate }] = createResource(asked, (now) => {
    const get = () => valueToShow(live.follower.get(now));
    if (!isWaiting(live.follower.get(now))) return get();
    return (isServer ? valueOnServer(now) : live.follower.shown()).then(get);
  });
  createComputed(() => {
    if (!isWaiting(reading)) mutate(() => valueToShow(reading));
  });
  return value;
}

function liveReading(source: Source<any, any>, all: GivenRest) {
  const rest = placeFollowed(source, all);
  const given = rest[1] ?? {};
  const optionsNow = typeof given === "function" ? createMemo(given) : () => given;
  const { cache = useCache() } = untrack(optionsNow);
  refuseSourceOfRender(cache, source);
  tellWithin(cache, batch); // Solid runs at once what looks at a signal: all that one call of the cache changes is one change
  const live = new Live(signal, batch);
  const asked = createMemo(() => {
    const { when = true, revalidateEvery: _, ...options } = optionsNow();
    const params = valueNow(rest[0]);
    const known = rest.length === 0 || isKnown(source, params);
    return live.ask(cache, source, params, { ...options, when: valueNow(when) }, known);
  });
  if (!isServer) {
    if (getOwner()) followHere(live, asked);
    else live.hydrated();
  }
  // Solid's renderer waits for resources (rule H6). A hydrated component has one too: both sides count them.
  const [came] = isServer || sharedConfig.context ? createResource(() => shownOnPage(asked())) : [];
  const look = (member: Member) => {
    if (isServer) came?.();
    if (DEVELOPMENT && !isServer && member !== "revalidate") noticeTakenApart(source.name, member);
    optionsNow(); // who looks follows them too: of the same entry another part may be shown
    return live.look(member, asked());
  };
  const reading = makeLiveReading(look);
  if (!isServer && (typeof given === "function" || given.revalidateEvery)) {
    createComputed(() => live.changeInterval(intervalNow(optionsNow().revalidateEvery, reading.value, asked().params)));
  }
  return { live, reading, asked };
}

/** In development: Solid's own builds for it say which component's code is running, and whether it is followed. */
function noticeTakenApart(source: string, member: Member): void {
  if (getListener() || !(getOwner() as { component?: unknown } | null)?.component) return;
  warnTakenApart(source, member, "a component", `() => reading.${member}`);
}

/** Attached from now on, to the present source and params, until the owner is cleaned up. */
function followHere(live: Live, asked: () => unknown): void {
  let isHere = true;
  let isPending = false;
  createComputed((isFirst: boolean) => {
    asked();
    if (isFirst) untrack(() => live.attach());
    else if (!isPending) {
      // Signals set one after the other run this each time: only the entry that is asked for when they are done is attached.
      isPending = true;
      queueMicrotask(() => {
        isPending = false;
        if (isHere) live.attach();
      });
    }
    return false;
  }, true);
  onMount(() => live.hydrated());
  onCleanup(() => {
    isHere = false;
    live.leave();
  });
}

function signal(): Signal {
  const [track, trigger] = createSignal(undefined, { equals: false });
  return { track, trigger };
}

/**
 * Runs a write, and tells how its runs stand. They go on when the component goes away. `run` never rejects.
 * @throws CistaError code "no-provider"
 * @example const [runBook, booking] = createWrite(book); // <button onClick={() => runBook({ hut, night })}>
 */
export function createWrite<I, R>(
  write: Write<I, R>,
  options: { cache?: Cache } = {},
): readonly [run: RunWrite<I, R>, status: Accessor<WriteStatus<R>>] {
  const cache = options.cache ?? useCache();
  const runner = new Runner<I, R>(write, (next) => setStatus(() => next));
  const [status, setStatus] = createSignal(runner.status);
  return [runner.runIn(() => cache), status];
}

/**
 * The kept writes of an outbox (`openOutbox` of `cista/browser`): waiting, being sent or refused. Undefined while it is being opened.
 * @example const waiting = createOutbox(outbox); // <For each={waiting()}>{({ state }) => <li>{state}</li>}</For>
 */
export function createOutbox<T>(outbox: Listed<T> | Accessor<Listed<T> | undefined>): Accessor<readonly T[]> {
  const [list, setList] = createSignal<readonly T[]>([]);
  createComputed(() => {
    const { subscribe, list: listNow } = valueNow(outbox) ?? nothingListed;
    const look = () => void setList(() => listNow());
    onCleanup(subscribe(look));
    look();
  });
  return list;
}
