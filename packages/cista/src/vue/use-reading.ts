import {
  computed,
  customRef,
  type FunctionalComponent,
  getCurrentInstance,
  h,
  type InjectionKey,
  inject,
  isRef,
  type MaybeRef,
  type MaybeRefOrGetter,
  onActivated,
  onDeactivated,
  onMounted,
  onScopeDispose,
  onServerPrefetch,
  type Plugin,
  type Ref,
  shallowRef,
  toValue,
  unref,
  watch,
} from "vue";
import {
  intervalNow,
  isKnown,
  isWaiting,
  type LiveOptions,
  type OptionsFirst,
  placeFollowed,
  refuseNoProvider,
  refuseSourceOfRender,
  shownOnPage,
  valueOnServer,
  valueToShow,
} from "../binding/asked.js";
import { type Listed, nothingListed } from "../binding/listed.js";
import { Live, makeLiveReading, type Signal } from "../binding/live.js";
import type { Member } from "../binding/members.js";
import { Runner, type RunWrite, type WriteStatus } from "../binding/runner.js";
import { warnTakenApart } from "../binding/taken-apart.js";
import type { Texts } from "../binding/texts.js";
import type { Cache, ParamsLeftOut, Reading, Source, Write } from "../core/index.js";
import { textsKey } from "./outcome.js";

/** For programs that provide a cache to a part of the page: `provide(cacheKey, cache)`. */
export const cacheKey: InjectionKey<Cache> = Symbol("cista");

/**
 * Gives a cache to all components of an application, and `<cista-lamp>` to their templates. Make the cache once, outside of components.
 * `texts`: the texts of `Outcome`; a text that is left out stays English.
 * @example createApp(App).use(CistaPlugin, createCache()).mount("#app");
 */
export const CistaPlugin: Plugin<[cache: Cache, options?: { texts?: Partial<Texts> }]> = {
  install(app, cache, { texts } = {}) {
    app.provide(cacheKey, cache);
    if (texts) app.provide(textsKey, texts);
    app.component("CistaLamp", lamp);
  },
};

/** The element of `cista/lamp` in templates, as a component: Vue knows it without being told which elements are custom ones. */
const lamp: FunctionalComponent<LampProps> = (_, { attrs }) => h("cista-lamp", attrs);

interface LampProps {
  /** The key of one entry; without it those that no other lamp shows. */
  entry?: string | undefined;
}

declare module "vue" {
  interface GlobalComponents {
    CistaLamp: FunctionalComponent<LampProps>;
  }
}

/** The cache that was provided. @throws CistaError code "no-provider" where there is none */
export function useCache(): Cache {
  return (
    inject(cacheKey, undefined) ??
    refuseNoProvider(
      DEVELOPMENT && "There is no cache here. Give the app one: app.use(CistaPlugin, cache), or pass { cache }.",
    )
  );
}

export interface ReadingOptions<T, U = T> extends Omit<LiveOptions<T, U>, "when" | "revalidateEvery"> {
  /** False: attached but never starts a request by itself. Default true. */
  when?: MaybeRefOrGetter<boolean> | undefined;
  /** As in `ViewOptions`. A ref is followed, and so are the values that a function looks at. */
  revalidateEvery?: MaybeRef<LiveOptions<T, U>["revalidateEvery"]>;
}

/** Params come first, as they are, in a ref or by a getter; then options. */
export type ReadingParams<P, O, Q = MaybeRefOrGetter<P | undefined>> = 0 extends 1 & P
  ? [params?: any, options?: O]
  : [P] extends [void]
    ? OptionsFirst<Q, O>
    : undefined extends P
      ? [params?: Q, options?: O]
      : [params: Q, options?: O];

/** As `placeFollowed`; a ref counts as a function that returns its value. */
export function argumentsOf<G extends readonly [params?: any, options?: any]>(source: Source<any, any>, given: G): G {
  const [first] = given;
  return given.length === 1 && isRef(first)
    ? (placeFollowed(source, [() => first.value]) as unknown as G)
    : placeFollowed(source, given);
}

type GivenRest = [params?: any, options?: MaybeRefOrGetter<ReadingOptions<any, any>>];

const inPage = typeof document === "object";

/**
 * The reading of one entry, always the newest: each member is tracked by itself, as of a reactive object. Narrow it in the
 * template; taken apart, by `toRefs`. `watch(reading, …)` hears of each change. Attaches in setup, leaves with its scope; a component that KeepAlive puts aside leaves too.
 * Params not known yet: `undefined`, and the reading is `empty`. Options that change: a getter or a ref of them all.
 * Where the source takes no params, the options may follow it: `useReading(huts, { pick })`.
 * @throws CistaError code "no-provider"; code "invalid-params" for params that cannot make a key
 * @example const hut = useReading(hutSource, () => ({ id: props.id }));
 */
export function useReading<P, T, U = T>(
  source: Source<P, T>,
  ...rest: ReadingParams<NoInfer<P>, MaybeRefOrGetter<ReadingOptions<T, U>>>
): Reading<U>;
export function useReading(source: ParamsLeftOut): never;
export function useReading(source: any, ...rest: GivenRest): any {
  return liveReading(source, rest).reading;
}

/**
 * The value itself, for `await` in an async setup inside of Suspense. What fails first rejects, for the error view above; what
 * fails later is thrown where the value is looked at. For other params the last value stays until theirs has come.
 * @throws as `useReading`
 * @example const hut = await useValue(hutSource, () => ({ id: props.id }));
 */
export function useValue<P, T, U = T>(
  source: Source<P, T>,
  ...rest: ReadingParams<NoInfer<P>, MaybeRefOrGetter<ReadingOptions<T, U>>>
): Promise<Readonly<Ref<U>>>;
export function useValue(source: ParamsLeftOut): never;
export function useValue(source: any, ...rest: GivenRest): any {
  const { reading, live, asked } = liveReading(source, rest);
  const value = computed((before) => (isWaiting(reading) ? before : valueToShow(reading)));
  const came = inPage ? live.follower.shown() : valueOnServer(asked.value);
  return came.then(() => {
    void value.value; // what has failed, fails here
    return value;
  });
}

function liveReading(source: Source<any, any>, given: GivenRest) {
  const rest = argumentsOf(source, given);
  const isFollowed = typeof rest[1] === "function" || isRef(rest[1]);
  const optionsNow = isFollowed
    ? computed(() => toValue(rest[1]) ?? {})
    : { value: (rest[1] ?? {}) as ReadingOptions<any> };
  const { cache = useCache() } = optionsNow.value;
  refuseSourceOfRender(cache, source);
  const live = new Live(signal);
  const asked = computed(() => {
    const { when = true, revalidateEvery: _, ...options } = optionsNow.value;
    const params = toValue(rest[0]);
    const known = rest.length === 0 || isKnown(source, params);
    return live.ask(cache, source, params, { ...options, when: toValue(when) }, known);
  });
  if (inPage) followHere(live, () => asked.value);
  else if (getCurrentInstance()) onServerPrefetch(() => shownOnPage(asked.value));
  const made = makeLiveReading((member) => {
    void optionsNow.value; // who looks follows them too: of the same entry another part may be shown
    const shown = live.look(member, asked.value);
    if (DEVELOPMENT && member !== "revalidate") noticeTakenApart(source.name, member);
    return shown;
  });
  const reading = asReactive(made, () => live.follower.get(asked.value));
  if (inPage && (isFollowed || optionsNow.value.revalidateEvery)) {
    const now = () => intervalNow(unref(optionsNow.value.revalidateEvery), reading.value, asked.value.params);
    watch(now, (interval) => live.changeInterval(interval), { immediate: true });
  }
  return { live, reading, asked };
}

/** Attached from now on, to the present source and params, for as long as the component is there. */
function followHere(live: Live, asked: () => unknown): void {
  let isActive = true;
  watch(asked, () => isActive && live.attach(), { immediate: true });
  onScopeDispose(() => live.leave());
  if (!getCurrentInstance()) {
    live.hydrated();
    return;
  }
  onMounted(() => live.hydrated());
  onDeactivated(() => {
    isActive = false;
    live.leave();
  });
  onActivated(() => {
    isActive = true;
    live.attach();
  });
}

/**
 * What Vue asks of its own reactive objects, so that `toRefs` and `watch` take it for one: each member is followed.
 * @param now the reading of this moment, for `toRaw`
 */
function asReactive(reading: Reading<any>, now: () => Reading<any>): Reading<any> {
  const yes = { value: true, configurable: true };
  return Object.defineProperties(reading, {
    __v_raw: { get: now, configurable: true },
    __v_isReactive: yes,
    __v_isShallow: yes,
  });
}

function signal(): Signal {
  let made: Signal | undefined;
  customRef<void>((track, trigger) => {
    made = { track: DEVELOPMENT ? () => noteTracked(track()) : track, trigger };
    return { get() {}, set() {} };
  });
  return made as unknown as Signal;
}

// In development: Vue's `track` returns something where an effect is followed.
let isTracked = false;
let canTell: boolean | undefined;

function noteTracked(link: unknown): void {
  isTracked = link !== undefined;
}

function noticeTakenApart(source: string, member: Member): void {
  const component = getCurrentInstance();
  if (isTracked || !component || component.isMounted) return;
  if (canTell === undefined) {
    canTell = false;
    const probe = signal();
    void computed(() => {
      probe.track();
      canTell = isTracked;
    }).value;
  }
  if (canTell) warnTakenApart(source, member, "setup", `const { ${member} } = toRefs(reading)`);
}

/**
 * Runs a write, and tells how its runs stand. They go on when the component goes away. `run` never rejects.
 * @throws CistaError code "no-provider"
 * @example const { run, status } = useWrite(book); // <button @click="run({ hut, night })">
 */
export function useWrite<I, R>(
  write: Write<I, R>,
  options: { cache?: Cache } = {},
): { run: RunWrite<I, R>; status: Readonly<Ref<WriteStatus<R>>> } {
  const cache = options.cache ?? useCache();
  const runner = new Runner<I, R>(write, (next) => {
    status.value = next;
  });
  const status = shallowRef(runner.status);
  return { run: runner.runIn(() => cache), status };
}

/**
 * The kept writes of an outbox (`openOutbox` of `cista/browser`): waiting, being sent or refused. Undefined while it is being opened.
 * @example const waiting = useOutbox(outbox); // <li v-for="kept in waiting" :key="kept.id">{{ kept.state }}</li>
 */
export function useOutbox<T>(outbox: MaybeRefOrGetter<Listed<T> | undefined>): Readonly<Ref<readonly T[]>> {
  const list = shallowRef<readonly T[]>([]);
  const follow = (listed: Listed<T> | undefined, _: unknown, onCleanup: (end: () => void) => void) => {
    const { subscribe, list: listNow } = listed ?? nothingListed;
    const look = () => {
      list.value = listNow();
    };
    onCleanup(subscribe(look));
    look();
  };
  watch(() => toValue(outbox), follow, { immediate: true });
  return list;
}
