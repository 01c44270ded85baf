import { useCallback } from "react";
import { type BindingParams, placeArguments } from "../binding/asked.js";
import type { ParamsLeftOut, Reading, Source } from "../core/index.js";
import type { Pages } from "../http/index.js";
import { loadPage, type PageStatus, type PagesReading, pageAt } from "../http/list-ends.js";
import { pageSourceOf, type Side } from "../http/pages.js";
import { useCacheOr } from "./context.js";
import { type ReadingOptions, useReading } from "./use-reading.js";

/**
 * A list that `pagesFrom` has made, with its next and its previous page.
 * @throws as `useReading`; CistaError code "not-a-list" for another source
 * @example
 * const { reading, next, loadNext } = usePages(walkers, { region });
 * {next.exists && <button disabled={next.request !== "none"} onClick={loadNext}>More</button>}
 * {next.failure && <p role="alert">{next.failure.message}</p>}
 */
export function usePages<P, T>(
  source: Source<P, Pages<T>>,
  ...rest: BindingParams<NoInfer<P>, ReadingOptions<Pages<T>>>
): PagesReading<T>;
export function usePages(source: ParamsLeftOut): never;
export function usePages(source: any, ...given: [params?: any, options?: ReadingOptions<any>]): any {
  const rest = placeArguments(source, given);
  const reading = (useReading as (...all: unknown[]) => Reading<Pages<any>>)(source, ...rest);
  const next = usePage(source, rest, reading.value, "next");
  const previous = usePage(source, rest, reading.value, "previous");
  return { reading, next: next.status, previous: previous.status, loadNext: next.load, loadPrevious: previous.load };
}

function usePage(
  source: Source<any, any>,
  [params, options]: [params?: any, options?: ReadingOptions<any>],
  pages: Pages<unknown> | undefined,
  side: Side,
) {
  const cache = useCacheOr(options?.cache);
  const at = pageAt(params, pages, side);
  const { request, failure } = useReading(pageSourceOf(source), at as never, { cache, when: false });
  const load = useCallback(() => loadPage(cache, source, params, side), [cache, source, params, side]);
  const status: PageStatus = { exists: at !== undefined, request, failure };
  return { status, load };
}
