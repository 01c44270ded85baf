import type { ReactiveController } from "lit";
import { type BindingOptions, type MaybeFollowed, valueNow } from "../binding/asked.js";
import { ReadingList, specsOf } from "../binding/reading-list.js";
import type { Reading, Source } from "../core/index.js";
import { type ControllerHost, cacheOf, type ReadingOptions } from "./controllers.js";

/**
 * The readings of a list of params that may grow and shrink, for an element.
 * @example
 * #huts = new ReadingsController(this, hut, () => this.ids.map((id) => ({ id })));
 * // this.#huts.readings.map(({ value }) => html`<li>${value?.name}</li>`)
 */
export class ReadingsController<P, T, U = T> implements ReactiveController {
  readonly #host: ControllerHost;
  readonly #list: ReadingList;
  readonly #ask: () => void;
  #asked: ReturnType<ReadingList["ask"]> | undefined;
  #options: BindingOptions<any, any> = {};

  constructor(
    host: ControllerHost,
    source: Source<P, T>,
    paramsList: readonly NoInfer<P>[] | (() => readonly NoInfer<P>[]),
    options: MaybeFollowed<Omit<ReadingOptions<T, U>, "carryOver">> = {},
  ) {
    this.#host = host;
    this.#list = new ReadingList(() => host.requestUpdate());
    this.#ask = () => {
      const { cache = cacheOf(host), when, ...others } = valueNow(options);
      this.#options = { ...others, when: valueNow(when) };
      this.#asked = this.#list.ask(cache, specsOf(source, valueNow(paramsList)), this.#options);
    };
    host.addController(this);
  }

  /** In the order of the params. To be looked at in `render`. */
  get readings(): readonly Reading<U>[] {
    if (!this.#asked) this.#ask(); // on a server only `render` is called
    return this.#list.look(this.#options);
  }

  hostConnected(): void {
    if (this.#asked) this.#host.requestUpdate(); // put back
  }

  hostUpdate(): void {
    this.#ask();
    this.#list.attach(this.#asked ?? []);
  }

  hostDisconnected(): void {
    this.#list.leave();
  }
}
