import { computed, type Signal } from "@angular/core";
import { type LiveParams, placeFollowed, valueNow } from "../binding/asked.js";
import type { ParamsLeftOut, Source } from "../core/index.js";
import type { Pages } from "../http/index.js";
import { loadPage, type PageStatus, pageAt } from "../http/list-ends.js";
import { pageSourceOf, type Side } from "../http/pages.js";
import { type AngularOptions, injectCacheFor, injectReading, type ReadingSignal } from "./inject-reading.js";

/** A list in pages, and the requests at its ends, as signals. */
export interface PagesSignal<T> {
  readonly reading: ReadingSignal<Pages<T>>;
  readonly next: Signal<PageStatus>;
  readonly previous: Signal<PageStatus>;
  /** Loads the page behind the held ones, or joins its request. Never rejects: `next().failure` is its failure. */
  readonly loadNext: () => Promise<void>;
  /** Loads the page before the held ones. */
  readonly loadPrevious: () => Promise<void>;
}

/**
 * A list that `pagesFrom` has made, with its next and its previous page.
 * @throws as `injectReading`; CistaError code "not-a-list" for another source
 * @example
 * readonly list = injectPages(walkers, () => ({ region: this.region() }));
 * // <button [hidden]="!list.next().exists" (click)="list.loadNext()">More</button>
 */
export function injectPages<P, T>(
  source: Source<P, Pages<T>>,
  ...rest: LiveParams<NoInfer<P>, AngularOptions<Pages<T>>>
): PagesSignal<T>;
export function injectPages(source: ParamsLeftOut): never;
export function injectPages(source: any, ...given: [params?: any, options?: AngularOptions<any>]): any {
  const rest = placeFollowed(source, given);
  const { injector, cache = injectCacheFor({ injector }) } = typeof rest[1] === "object" ? rest[1] : {};
  const reading = (injectReading as (...all: unknown[]) => ReadingSignal<Pages<any>>)(source, ...rest);
  const params = () => valueNow(rest[0]);
  const end = (side: Side): Signal<PageStatus> => {
    const at = computed(() => pageAt(params(), reading.value(), side), {
      equal: (one, other) => one?.[1] === other?.[1],
    });
    const options = { cache, when: false, ...(injector ? { injector } : {}) };
    const page = injectReading(pageSourceOf(source), () => at() as never, options);
    return computed(() => ({ exists: at() !== undefined, request: page.request(), failure: page.failure() }));
  };
  return {
    reading,
    next: end("next"),
    previous: end("previous"),
    loadNext: () => loadPage(cache, source, params(), "next"),
    loadPrevious: () => loadPage(cache, source, params(), "previous"),
  };
}
