import { useCallback } from "react";
import type { BindingParams } from "../binding/asked.js";
import type { Failure, Reading, RequestPhase, Source } from "../core/index.js";
import type { Pages } from "../http/index.js";
import { addPage, neighbourIn, pageSourceOf, type Side } from "../http/pages.js";
import { useCache } from "./context.js";
import { type ReadingOptions, useReading } from "./use-reading.js";

/** The page on one side of a list. */
export interface PageStatus {
  /** Whether the server has one. */
  readonly exists: boolean;
  /** How far the request for it has come. */
  readonly request: RequestPhase;
  /** Of the last request for it; the list itself stays as it was. */
  readonly failure?: Failure | undefined;
}

/** A list in pages, and what is going on at its ends. */
export interface PagesReading<T> {
  readonly reading: Reading<Pages<T>>;
  readonly next: PageStatus;
  readonly previous: PageStatus;
  /** Loads the page behind what is held, or joins its request. Never rejects: `next.failure` says what went wrong. */
  readonly loadNext: () => Promise<void>;
  /** Loads the page before what is held. */
  readonly loadPrevious: () => Promise<void>;
}

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
export function usePages(source: Source<any, any>, ...rest: [params?: any, options?: ReadingOptions<any>]): any {
  const reading = (useReading as (...all: unknown[]) => Reading<Pages<any>>)(source, ...rest);
  const next = usePage(source, rest[0], reading.value, "next");
  const previous = usePage(source, rest[0], reading.value, "previous");
  return { reading, next: next.status, previous: previous.status, loadNext: next.load, loadPrevious: previous.load };
}

function usePage(source: Source<any, any>, params: unknown, pages: Pages<unknown> | undefined, side: Side) {
  const cache = useCache();
  const path = neighbourIn(pages, side);
  const page = pageSourceOf(source);
  const { request, failure } = useReading(page, path === undefined ? undefined : [params ?? null, path], {
    when: false,
  });
  const load = useCallback(() => addPage(cache, source, params, side).catch(() => {}), [cache, source, params, side]);
  const status: PageStatus = { exists: path !== undefined, request, failure };
  return { status, load };
}
