import type { LiveParams } from "../binding/asked.js";
import { valueNow } from "../binding/asked.js";
import type { Source } from "../core/index.js";
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
  ...rest: LiveParams<NoInfer<P>, ReadingOptions<Pages<T>>>
): PagesReading<T>;
export function usePages(source: Source<any, any>, ...rest: [params?: any, options?: ReadingOptions<any>]): any {
  const cache = rest[1]?.cache ?? useCache();
  const reading = (useReading as (...all: unknown[]) => any)(source, ...rest);
  const params = () => valueNow(rest[0]);
  return livePages(cache, source, params, reading, (page, at) => useReading(page, at, { cache, when: false }));
}
