import { untrack } from "svelte";
import { type LiveParams, type MaybeFollowed, placeFollowed, valueNow } from "../binding/asked.js";
import type { ParamsLeftOut, Source } from "../core/index.js";
import type { Pages } from "../http/index.js";
import { livePages, type PagesReading } from "../http/list-ends.js";
import { type ReadingOptions, useCache, useReading } from "./use-reading.js";

/**
 * A list that `pagesFrom` has made, with its next and its previous page: live, as a reading is.
 * @throws as `useReading`; CistaError code "not-a-list" for another source
 * @example
 * const list = usePages(walkers, () => ({ region }));
 * // {#if list.next.exists}<button onclick={list.loadNext}>More</button>{/if}
 */
export function usePages<P, T>(
  source: Source<P, Pages<T>>,
  ...rest: LiveParams<NoInfer<P>, MaybeFollowed<ReadingOptions<Pages<T>>>>
): PagesReading<T>;
export function usePages(source: ParamsLeftOut): never;
export function usePages(source: any, ...given: [params?: any, options?: MaybeFollowed<ReadingOptions<any>>]): any {
  const rest = placeFollowed(source, given);
  const cache = untrack(() => valueNow(rest[1]))?.cache ?? useCache();
  const reading = (useReading as (...all: unknown[]) => any)(source, ...rest);
  const params = () => valueNow(rest[0]);
  return livePages(cache, source, params, reading, (page, at) => useReading(page, at, { cache, when: false }));
}
