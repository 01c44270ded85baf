import type { ReactiveController, ReactiveControllerHost } from "lit";
import { AccessTracker } from "../binding/access-tracker.js";
import {
  intervalNow,
  isKnown,
  type LiveOptions,
  type LiveParams,
  type MaybeFollowed,
  placeFollowed,
  refuseNoProvider,
  refuseSourceOfRender,
  valueNow,
} from "../binding/asked.js";
import { Follower } from "../binding/follower.js";
import { type Listed, nothingListed } from "../binding/listed.js";
import { Runner, type RunWrite, type WriteStatus } from "../binding/runner.js";
import type { Cache, Reading, Source, Write } from "../core/index.js";

/** The protocol "context" of the W3C Web Components Community Group: an event that bubbles up to the element that has it. */
const cacheContext = Symbol.for("cista.cache");

interface ContextRequest extends Event {
  readonly context: unknown;
  readonly callback: (cache: Cache) => void;
}

/**
 * Gives a cache to all elements beneath. Returns its own end.
 * @example provideCache(document.body, createCache());
 */
export function provideCache(element: EventTarget, cache: Cache): () => void {
  const answer = (event: Event) => {
    const request = event as ContextRequest;
    if (request.context !== cacheContext) return;
    event.stopImmediatePropagation();
    request.callback(cache);
  };
  element.addEventListener("context-request", answer);
  return () => element.removeEventListener("context-request", answer);
}

/** The cache that an element above has been given. @throws CistaError code "no-provider" where there is none */
export function cacheOf(element: EventTarget): Cache {
  let found: Cache | undefined;
  const callback = (cache: Cache) => {
    found = cache;
  };
  const request = new Event("context-request", { bubbles: true, composed: true });
  element.dispatchEvent(Object.assign(request, { context: cacheContext, callback }));
  return (
    found ??
    refuseNoProvider(
      DEVELOPMENT &&
        "There is no cache here. Call provideCache(element, cache) for an element above this one, or pass { cache }.",
    )
  );
}

export interface ReadingOptions<T, U = T> extends LiveOptions<T, U> {}

/** An element that has controllers. */
export type ControllerHost = ReactiveControllerHost & EventTarget;

/**
 * The reading of one entry for an element. Attached while the element is connected; asks for it to be updated when a member
 * changes that it has looked at. Params not known yet: `undefined`, and the reading is `empty`. Where the source takes no params, the
 * options may follow it.
 * @example
 * class HutPanel extends LitElement {
 *   #hut = new ReadingController(this, hut, () => ({ id: this.hutId }));
 *   render() { return html`<p>${this.#hut.reading.value?.name}</p>`; }
 * }
 */
export class ReadingController<P, T, U = T> implements ReactiveController {
  readonly #host: ControllerHost;
  readonly #source: Source<P, T>;
  readonly #rest: readonly [params?: any, options?: MaybeFollowed<ReadingOptions<T, U>>];
  readonly #follower = new Follower(() => this.#changed());
  readonly #tracker = new AccessTracker();
  #cache: Cache | undefined;
  #shown: Reading<any> | undefined;

  constructor(
    host: ControllerHost,
    source: Source<P, T>,
    ...rest: LiveParams<NoInfer<P>, MaybeFollowed<ReadingOptions<T, U>>>
  ) {
    this.#host = host;
    this.#follower.isHydrating = true;
    this.#source = source;
    this.#rest = placeFollowed(source, rest as [params?: any, options?: MaybeFollowed<ReadingOptions<T, U>>]);
    host.addController(this);
  }

  /** To be looked at in `render`; looked at later, it is the newest. @throws CistaError code "no-provider"; code "invalid-params" */
  get reading(): Reading<U> {
    if (!this.#shown) this.#ask(); // on a server only `render` is called
    const reading = this.#follower.get();
    return this.#tracker.track(reading, () => (this.#follower.isAttached ? this.#follower.get() : reading));
  }

  hostConnected(): void {
    if (!this.#shown) return; // its properties may still be on their way
    this.#ask();
    this.#follower.attach(); // put back
    this.#changed();
  }

  hostUpdate(): void {
    this.#ask();
    this.#follower.attach();
    this.#shown = this.#follower.get();
  }

  hostUpdated(): void {
    if (!this.#follower.isHydrating) return;
    this.#follower.isHydrating = false;
    this.#changed();
  }

  hostDisconnected(): void {
    this.#follower.leave();
    this.#cache = undefined; // it may come back beneath another provider
  }

  #ask(): void {
    const [given, said] = this.#rest as [unknown, MaybeFollowed<ReadingOptions<any, any>>?];
    const { when = true, cache, revalidateEvery, ...options } = valueNow(said) ?? {};
    this.#cache ??= cache ?? cacheOf(this.#host);
    refuseSourceOfRender(this.#cache, this.#source);
    const params = valueNow(given);
    const known = this.#rest.length === 0 || isKnown(this.#source, params);
    const now = { when: valueNow(when), revalidateEvery: intervalNow(revalidateEvery, undefined, params) };
    this.#follower.ask(this.#cache, this.#source, params, { ...options, ...now }, known);
  }

  #changed(): void {
    if (this.#shown && this.#tracker.sameForRender(this.#shown, this.#follower.get())) return;
    this.#host.requestUpdate();
  }
}

/**
 * Runs a write for an element, and tells how its runs stand. They go on when the element goes away. `run` never rejects.
 * @example #book = new WriteController(this, book); // html`<button @click=${() => this.#book.run({ hut, night })}>`
 */
export class WriteController<I, R> implements ReactiveController {
  readonly #runner: Runner<I, R>;
  readonly run: RunWrite<I, R>;

  constructor(host: ControllerHost, write: Write<I, R>, options: { cache?: Cache } = {}) {
    const runner = new Runner<I, R>(write, () => host.requestUpdate());
    this.#runner = runner;
    this.run = runner.runIn(() => options.cache ?? cacheOf(host));
    host.addController(this);
  }

  get status(): WriteStatus<R> {
    return this.#runner.status;
  }

  hostConnected(): void {}
}

/**
 * The kept writes of an outbox (`openOutbox` of `cista/browser`): waiting, being sent or refused. Undefined while it is being opened.
 * @example #waiting = new OutboxController(this, outbox); // this.#waiting.list.map(({ state }) => html`<li>${state}</li>`)
 */
export class OutboxController<T> implements ReactiveController {
  readonly #host: ReactiveControllerHost;
  readonly #outbox: Listed<T>;
  #leave: (() => void) | undefined;

  constructor(host: ReactiveControllerHost, outbox: Listed<T> | undefined) {
    this.#host = host;
    this.#outbox = outbox ?? nothingListed;
    host.addController(this);
  }

  get list(): readonly T[] {
    return this.#outbox.list();
  }

  hostConnected(): void {
    this.#leave = this.#outbox.subscribe(() => this.#host.requestUpdate());
    this.#host.requestUpdate();
  }

  hostDisconnected(): void {
    this.#leave?.();
  }
}
