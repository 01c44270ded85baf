import { AccessTracker } from "../binding/access-tracker.js";
import { type BindingOptions, isKnown } from "../binding/asked.js";
import { Follower } from "../binding/follower.js";
import type { Listed } from "../binding/listed.js";
import { Runner, type RunWrite, type WriteStatus } from "../binding/runner.js";
import type { Cache, Reading, Source, Write } from "../core/index.js";

/** A shown reading, which may be changed and ended. */
export interface Shown<P> {
  /** Other params: the old entry is left and the new one attached in one go, in a microtask. */
  set(params: P | undefined, options?: BindingOptions<any, any>): void;
  /** Leaves. Harmless when called again. */
  stop(): void;
}

/**
 * Calls `render` at once, and again, in a microtask, when a member of the reading changes that it has looked at.
 * An error of the first `render` is thrown here; a later one is reported as uncaught, and all else goes on.
 * @param params `undefined`: not known yet, where the source needs some
 * @throws CistaError code "invalid-params" for params that cannot make a key
 * @example
 * const shown = showReading(cache, hut, { id: "h-07" }, ({ state, value }) => {
 *   name.textContent = state === "ready" ? value.name : state;
 * });
 * shown.set({ id: "h-12" });
 */
export function showReading<P, T, U = T>(
  cache: Cache,
  source: Source<P, T>,
  params: NoInfer<P> | undefined,
  render: (reading: Reading<U>) => void,
  options: BindingOptions<T, U> = {},
): Shown<P> {
  const shown = new ShownReading(cache, source, render as (reading: Reading<any>) => void, { ...options });
  shown.ask(params);
  shown.begin();
  return { set: (next, more) => shown.set(next, more), stop: () => shown.stop() };
}

class ShownReading {
  readonly #cache: Cache;
  readonly #source: Source<any, any>;
  readonly #render: (reading: Reading<any>) => void;
  readonly #options: BindingOptions<any, any>;
  readonly #tracker = new AccessTracker();
  readonly #follower = new Follower(() => this.#changed());
  #drawn: Reading<any> | undefined;
  #isPending = false;
  #isStopped = false;

  constructor(
    cache: Cache,
    source: Source<any, any>,
    render: (reading: Reading<any>) => void,
    options: BindingOptions<any, any>,
  ) {
    this.#cache = cache;
    this.#source = source;
    this.#render = render;
    this.#options = options;
  }

  ask(params: unknown): void {
    this.#follower.ask(this.#cache, this.#source, params, this.#options, isKnown(this.#source, params));
  }

  begin(): void {
    this.#follower.attach();
    this.#draw();
  }

  set(params: unknown, more: BindingOptions<any, any> = {}): void {
    if (this.#isStopped) return;
    Object.assign(this.#options, more);
    this.ask(params);
    this.#drawLater();
  }

  stop(): void {
    this.#isStopped = true;
    this.#follower.leave();
  }

  #changed(): void {
    if (!this.#isDrawn()) this.#drawLater();
  }

  #isDrawn(): boolean {
    return this.#drawn !== undefined && this.#tracker.sameForRender(this.#drawn, this.#follower.get());
  }

  #drawLater(): void {
    if (this.#isPending) return;
    this.#isPending = true;
    queueMicrotask(() => {
      this.#isPending = false;
      if (this.#isStopped) return;
      try {
        this.#follower.attach();
        if (!this.#isDrawn()) this.#draw();
      } catch (thrown) {
        reportError(thrown);
      }
    });
  }

  #draw(): void {
    const reading = this.#follower.get();
    this.#drawn = reading;
    this.#render(this.#tracker.track(reading, () => (this.#follower.isAttached ? this.#follower.get() : reading)));
    if (!this.#isDrawn()) this.#drawLater(); // changed by what `render` did, before it looked
  }
}

/**
 * Runs a write; `changed` is told how its runs stand, each time that this changes.
 * @example
 * const runBook = writeRunner(cache, book, ({ underWay }) => { button.disabled = underWay > 0; });
 * button.onclick = () => runBook({ hut, night });
 */
export function writeRunner<I, R>(
  cache: Cache,
  write: Write<I, R>,
  changed: (status: WriteStatus<R>) => void,
): RunWrite<I, R> {
  const runner = new Runner<I, R>(write, changed);
  return runner.runIn(() => cache);
}

/**
 * Renders the kept writes of an outbox (`openOutbox` of `cista/browser`), waiting, being sent or refused: now, and after each change.
 * Returns its own end.
 * @example const stop = outboxList(outbox, (waiting) => { counter.textContent = String(waiting.length); });
 */
export function outboxList<T>(outbox: Listed<T>, render: (list: readonly T[]) => void): () => void {
  const leave = outbox.subscribe(() => render(outbox.list()));
  render(outbox.list());
  return leave;
}
