import { useCallback } from "preact/hooks";
import { type BindingParams, placeArguments } from "../binding/asked.js";
import type { Cache, ParamsLeftOut, Source } from "../core/index.js";
import type { Pages } from "../http/index.js";
import { loadPage, type PageStatus, type PagesReading, pageAt } from "../http/list-ends.js";
import { pageSourceOf, type Side } from "../http/pages.js";
import { type ReadingOptions, useCacheOr, useReading } from "./use-reading.js";

/**
 * A list that `pagesFrom` has made, with its next and its previous page.
 * @throws as `useReading`; CistaError code "not-a-list" for another source
 * @example
 * const { reading, next, loadNext } = usePages(walkers, { region });
 * {next.exists && <button disabled={next.request !== "none"} onClick={loadNext}>More</button>}
 */
export function usePages<P, T>(
  source: Source<P, Pages<T>>,
  ...rest: BindingParams<NoInfer<P>, ReadingOptions<Pages<T>>>
): PagesReading<T>;
export function usePages(source: ParamsLeftOut): never;
export function usePages(source: any, ...given: [params?: any, options?: ReadingOptions<any>]): any {
  const rest = placeArguments(source, given);
  const cache = useCacheOr(rest[1]?.cache);
  const reading = (useReading as (...all: unknown[]) => any)(source, ...rest);
  const next = useEnd(cache, source, rest[0], reading.value, "next");
  const previous = useEnd(cache, source, rest[0], reading.value, "previous");
  return { reading, next: next.status, previous: previous.status, loadNext: next.load, loadPrevious: previous.load };
}

function useEnd(cache: Cache, source: Source<any, any>, params: unknown, pages: Pages<any> | undefined, side: Side) {
  const at = pageAt(params, pages, side);
  const { request, failure } = useReading(pageSourceOf(source), at as never, { cache, when: false });
  const load = useCallback(() => loadPage(cache, source, params, side), [cache, source, params, side]);
  const status: PageStatus = { exists: at !== undefined, request, failure };
  return { status, load };
}
