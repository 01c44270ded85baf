import { type MaybeRefOrGetter, toValue } from "vue";
import type { ParamsLeftOut, Source } from "../core/index.js";
import type { Pages } from "../http/index.js";
import { livePages, type PagesReading } from "../http/list-ends.js";
import { argumentsOf, type ReadingOptions, type ReadingParams, useCache, useReading } from "./use-reading.js";

/**
 * A list that `pagesFrom` has made, with its next and its previous page: live, as a reading is.
 * @throws as `useReading`; CistaError code "not-a-list" for another source
 * @example
 * const { reading, next, loadNext } = usePages(walkers, () => ({ region: props.region }));
 * // <button v-if="next.exists" :disabled="next.request !== 'none'" @click="loadNext">More</button>
 */
export function usePages<P, T>(
  source: Source<P, Pages<T>>,
  ...rest: ReadingParams<NoInfer<P>, MaybeRefOrGetter<ReadingOptions<Pages<T>>>>
): PagesReading<T>;
export function usePages(source: ParamsLeftOut): never;
export function usePages(source: any, ...given: [params?: any, options?: MaybeRefOrGetter<ReadingOptions<any>>]): any {
  const rest = argumentsOf(source, given);
  const cache = toValue(rest[1])?.cache ?? useCache();
  const reading = (useReading as (...all: unknown[]) => any)(source, ...rest);
  const params = () => toValue(rest[0]);
  return livePages(cache, source, params, reading, (page, at) => useReading(page, at, { cache, when: false }));
}
