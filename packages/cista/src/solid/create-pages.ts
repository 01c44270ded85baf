import { untrack } from "solid-js";
import { type LiveParams, type MaybeFollowed, placeFollowed, valueNow } from "../binding/asked.js";
import type { ParamsLeftOut, Source } from "../core/index.js";
import type { Pages } from "../http/index.js";
import { livePages, type PagesReading } from "../http/list-ends.js";
import { createReading, type ReadingOptions, useCache } from "./create-reading.js";

/**
 * A list that `pagesFrom` has made, with its next and its previous page: live, as a reading is.
 * @throws as `createReading`; CistaError code "not-a-list" for another source
 * @example
 * const list = createPages(walkers, () => ({ region: props.region }));
 * <Show when={list.next.exists}><button onClick={list.loadNext}>More</button></Show>
 */
export function createPages<P, T>(
  source: Source<P, Pages<T>>,
  ...rest: LiveParams<NoInfer<P>, MaybeFollowed<ReadingOptions<Pages<T>>>>
): PagesReading<T>;
export function createPages(source: ParamsLeftOut): never;
export function createPages(source: any, ...given: [params?: any, options?: MaybeFollowed<ReadingOptions<any>>]): any {
  const rest = placeFollowed(source, given);
  const cache = untrack(() => valueNow(rest[1]))?.cache ?? useCache();
  const reading = (createReading as (...all: unknown[]) => any)(source, ...rest);
  const params = () => valueNow(rest[0]);
  return livePages(cache, source, params, reading, (page, at) => createReading(page, at, { cache, when: false }));
}
