import type { ReactiveController } from "lit";
import { type LiveParams, type MaybeFollowed, placeFollowed, valueNow } from "../binding/asked.js";
import type { Reading, Source } from "../core/index.js";
import type { Pages } from "../http/index.js";
import { loadPage, type PageStatus, type PagesReading, pageAt } from "../http/list-ends.js";
import { pageSourceOf, type Side } from "../http/pages.js";
import { type ControllerHost, cacheOf, ReadingController, type ReadingOptions } from "./controllers.js";

/**
 * A list that `pagesFrom` has made, with its next and its previous page, for an element.
 * @throws as `ReadingController`; CistaError code "not-a-list" for another source
 * @example
 * #list = new PagesController(this, walkers, () => ({ region: this.region }));
 * // html`<button ?hidden=${!this.#list.next.exists} @click=${this.#list.loadNext}>More</button>`
 */
export class PagesController<P, T> implements ReactiveController, PagesReading<T> {
  readonly #list: ReadingController<any, Pages<T>>;
  readonly #ends: Record<Side, ReadingController<any, any>>;
  readonly #at: (side: Side) => unknown;
  /** Loads the page behind the held ones, or joins its request. Never rejects: `next.failure` is its failure. */
  readonly loadNext: () => Promise<void>;
  /** Loads the page before the held ones. */
  readonly loadPrevious: () => Promise<void>;

  constructor(
    host: ControllerHost,
    source: Source<P, Pages<T>>,
    ...rest: LiveParams<NoInfer<P>, MaybeFollowed<ReadingOptions<Pages<T>>>>
  ) {
    const [given, options] = placeFollowed(source, rest as [unknown, MaybeFollowed<ReadingOptions<any>>?]);
    const page = pageSourceOf(source);
    const params = () => valueNow(given);
    const cacheSaid = () => valueNow(options)?.cache;
    this.#at = (side) => pageAt(params(), this.reading.value, side);
    this.#list = new ReadingController<any, Pages<T>>(host, source, ...(rest as [any, any]));
    const end = (side: Side) =>
      new ReadingController<any, any>(
        host,
        page,
        () => this.#at(side),
        () => ({ when: false, cache: cacheSaid() }),
      );
    this.#ends = { next: end("next"), previous: end("previous") };
    const load = (side: Side) => () => loadPage(cacheSaid() ?? cacheOf(host), source, params(), side);
    this.loadNext = load("next");
    this.loadPrevious = load("previous");
    host.addController(this);
  }

  get reading(): Reading<Pages<T>> {
    return this.#list.reading;
  }

  get next(): PageStatus {
    return this.#statusOf("next");
  }

  get previous(): PageStatus {
    return this.#statusOf("previous");
  }

  hostConnected(): void {}

  #statusOf(side: Side): PageStatus {
    const { request, failure } = this.#ends[side].reading;
    return { exists: this.#at(side) !== undefined, request, failure };
  }
}
