import {
  afterNextRender,
  assertInInjectionContext,
  computed,
  DestroyRef,
  ErrorHandler,
  effect,
  InjectionToken,
  type Injector,
  inject,
  PendingTasks,
  PLATFORM_ID,
  type Provider,
  type ResourceStatus,
  runInInjectionContext,
  type Signal,
  signal,
  untracked,
} from "@angular/core";
import {
  type Asked,
  intervalNow,
  isKnown,
  type LiveOptions,
  type LiveParams,
  placeFollowed,
  refuseNoProvider,
  refuseSourceOfRender,
  valueNow,
  valueOnServer,
  valueToShow,
} from "../binding/asked.js";
import { type Listed, nothingListed } from "../binding/listed.js";
import { Live, makeLiveReading, type Signal as Tracked } from "../binding/live.js";
import { type Member, members } from "../binding/members.js";
import { Runner, type RunWrite, type WriteStatus } from "../binding/runner.js";
import { makeReading, nothing } from "../core/doors/readings.js";
import { type Cache, Failure, type ParamsLeftOut, type Reading, type Source, type Write } from "../core/index.js";

/** Not for programs: they use `injectCache`. */
export const CACHE: InjectionToken<Cache> = new InjectionToken<Cache>("cista");

/**
 * Gives a cache to an application, a route or a component. Make the cache once.
 * @example bootstrapApplication(App, { providers: [provideCache(createCache())] });
 */
export function provideCache(cache: Cache): Provider {
  return { provide: CACHE, useValue: cache };
}

/** The cache that was provided. @throws CistaError code "no-provider" where there is none */
export function injectCache(): Cache {
  return (
    inject(CACHE, { optional: true }) ??
    refuseNoProvider(
      DEVELOPMENT &&
        "There is no cache here. Add provideCache(cache) to the providers of the application, or pass { cache }.",
    )
  );
}

/** The cache of the options, or the one that was provided where they say. */
export function injectCacheFor({
  cache,
  injector,
}: {
  cache?: Cache | undefined;
  injector?: Injector | undefined;
} = {}): Cache {
  return cache ?? (injector ? runInInjectionContext(injector, injectCache) : injectCache());
}

export interface ReadingOptions<T, U = T> extends LiveOptions<T, U> {
  /** Where there is no injection context. Its end is the reading's end. */
  injector?: Injector;
}

/** Options as they are, or a function that returns all that change: inputs are not there yet when the cache is looked for. */
export type AngularOptions<T, U = T> = ReadingOptions<T, U> | (() => Omit<ReadingOptions<T, U>, "cache" | "injector">);

type GivenRest = [params?: any, options?: AngularOptions<any, any>];

/** A signal of the reading, and one for each of its members. */
export type ReadingSignal<T> = Signal<Reading<T>> & { readonly [M in Member]: Signal<Reading<T>[M]> };

/**
 * The reading of one entry, always the newest. `reading()` narrows by its state in a template; `reading.value()` and the others
 * are signals of their own. Attached until the injector is destroyed. Never throws where a template looks at it: what cannot be
 * asked for is told once to the ErrorHandler, and shown as `failed`. Where the source takes no params, the options may follow it.
 * @throws CistaError code "no-provider"
 * @example readonly hut = injectReading(hutSource, () => ({ id: this.id() }));
 */
export function injectReading<P, T, U = T>(
  source: Source<P, T>,
  ...rest: LiveParams<NoInfer<P>, AngularOptions<T, U>>
): ReadingSignal<U>;
export function injectReading(source: ParamsLeftOut): never;
export function injectReading(source: any, ...given: GivenRest): any {
  const rest = placeFollowed(source, given);
  const injector = typeof rest[1] === "object" ? rest[1].injector : undefined;
  if (injector) return runInInjectionContext(injector, () => readingSignal(source, rest));
  assertInInjectionContext(injectReading);
  return readingSignal(source, rest);
}

/** The entry asked for; or the error thrown by asking. */
type AskedOrNot = Asked | { readonly thrown: unknown };

function readingSignal(source: Source<any, any>, rest: GivenRest): unknown {
  const given = rest[1] ?? {};
  const optionsNow: () => ReadingOptions<any, any> = typeof given === "function" ? computed(given) : () => given;
  const cache = (typeof given === "object" ? given.cache : undefined) ?? injectCache();
  refuseSourceOfRender(cache, source);
  const live = new Live(trackedSignal, untracked);
  const asked = computed((): AskedOrNot => {
    try {
      const { when = true, revalidateEvery: _, injector: __, ...options } = optionsNow();
      const params = valueNow(rest[0]);
      const known = rest.length === 0 || isKnown(source, params);
      return live.ask(cache, source, params, { ...options, when: valueNow(when) }, known);
    } catch (thrown) {
      return { thrown };
    }
  });
  followHere(live, asked);
  const failed = failuresToldOnce(source.name);
  const reading = makeLiveReading((member) => {
    const now = asked();
    if ("thrown" in now) return failed(now.thrown) as never;
    optionsNow(); // who looks follows them too: of the same entry another part may be shown
    return live.look(member, now);
  });
  if (typeof given === "function" || given.revalidateEvery) {
    effect(() => {
      const now = asked();
      const interval = "thrown" in now ? false : intervalNow(optionsNow().revalidateEvery, reading.value, now.params);
      untracked(() => live.changeInterval(interval));
    });
  }
  const whole = computed(() => reading);
  for (const member of members) {
    let own: Signal<unknown> | undefined;
    const get = () => {
      own ??= computed(() => reading[member]);
      return own;
    };
    Object.defineProperty(whole, member, { get });
  }
  return whole;
}

/** An error thrown in a template stops Angular from bringing the views after it up to date: told once, and shown as a failure. */
function failuresToldOnce(name: string): (thrown: unknown) => Reading<any> {
  const handler = inject(ErrorHandler);
  const told = new Set<string>();
  return (thrown) => {
    const { message } = thrown as Error;
    if (!told.has(message)) handler.handleError(thrown);
    told.add(message);
    const failure = new Failure("load", message, { cause: thrown });
    return makeReading(
      { ...nothing, key: name, state: "failed", failure, request: "none" },
      { revalidate: async () => {} },
    ) as Reading<any>;
  };
}

/** In an effect: a component's inputs are not there before it. On a server the page is sent when the value has come. */
function followHere(live: Live, asked: () => AskedOrNot): void {
  const onServer = inject(PLATFORM_ID) === "server";
  const tasks = inject(PendingTasks);
  effect(() => {
    const now = asked();
    untracked(() => {
      if ("thrown" in now) live.leave();
      else if (!onServer) live.attach();
      else if (now.known && now.when) {
        const done = tasks.add();
        const came = () => {
          live.changed();
          done();
        };
        valueOnServer(now).then(came, came);
      }
    });
  });
  afterNextRender(() => untracked(() => live.hydrated()));
  inject(DestroyRef).onDestroy(() => live.leave());
}

function trackedSignal(): Tracked {
  const version = signal(0);
  return { track: version, trigger: () => version.update((n) => n + 1) };
}

/** A reading in the shape of Angular's own resources, for code that takes one. */
export interface ReadingResource<T> {
  readonly value: Signal<T | undefined>;
  readonly status: Signal<ResourceStatus>;
  readonly error: Signal<Failure | undefined>;
  readonly isLoading: Signal<boolean>;
  hasValue(): boolean;
  reload(): void;
}

/** A reading in the shape of Angular's own resources. `value()` throws the failure, as theirs does. */
export function asResource<T>(reading: ReadingSignal<T>): ReadingResource<T> {
  const status = computed<ResourceStatus>(() => {
    switch (reading.state()) {
      case "empty":
        return "idle";
      case "loading":
        return "loading";
      case "failed":
        return "error";
      default:
        if (reading.pendingWrites()) return "local";
        return reading.request() === "none" ? "resolved" : "reloading";
    }
  });
  return {
    value: computed(() => valueToShow(reading()) as T | undefined),
    status,
    error: computed(() => reading.failure()),
    isLoading: computed(() => status() === "loading" || status() === "reloading"),
    hasValue: () => reading.value() !== undefined,
    reload: () => void reading.revalidate()(),
  };
}

/**
 * Runs a write, and tells how its runs stand. They go on when the component goes away. `run` never rejects.
 * @throws CistaError code "no-provider"
 * @example readonly booking = injectWrite(book); // (click)="booking.run({ hut, night })"
 */
export function injectWrite<I, R>(
  write: Write<I, R>,
  options: { cache?: Cache; injector?: Injector } = {},
): { readonly run: RunWrite<I, R>; readonly status: Signal<WriteStatus<R>> } {
  const cache = injectCacheFor(options);
  const runner = new Runner<I, R>(write, (next) => untracked(() => status.set(next)));
  const status = signal(runner.status);
  return { run: runner.runIn(() => cache), status: status.asReadonly() };
}

/**
 * The kept writes of an outbox (`openOutbox` of `cista/browser`): waiting, being sent or refused. Undefined while it is being opened.
 * @example readonly waiting = injectOutbox(outbox); // {{ waiting().length }}
 */
export function injectOutbox<T>(outbox: Listed<T> | (() => Listed<T> | undefined)): Signal<readonly T[]> {
  const list = signal<readonly T[]>([]);
  effect((onCleanup) => {
    const { subscribe, list: listNow } = valueNow(outbox) ?? nothingListed;
    const look = () => untracked(() => list.set(listNow()));
    onCleanup(subscribe(look));
    look();
  });
  return list.asReadonly();
}
