/** The requests at the two ends of a list in pages, for bindings to show. */
import type { Cache, Failure, Reading, RequestPhase, Source } from "../core/index.js";
import type { Pages } from "./contract.js";
import { addPage, neighbourIn, pageSourceOf, type Side } from "./pages.js";

/** The page on one side of a list. */
export interface PageStatus {
  /** Whether the server has one. */
  readonly exists: boolean;
  /** How far the request for it has come. */
  readonly request: RequestPhase;
  /** Of the last request for it; the list itself stays as it was. */
  readonly failure?: Failure | undefined;
}

/** A list in pages, and the requests at its ends. */
export interface PagesReading<T> {
  readonly reading: Reading<Pages<T>>;
  readonly next: PageStatus;
  readonly previous: PageStatus;
  /** Loads the page behind the held ones, or joins its request. Never rejects: `next.failure` is its failure. */
  readonly loadNext: () => Promise<void>;
  /** Loads the page before the held ones. */
  readonly loadPrevious: () => Promise<void>;
}

/** The params of the page on one side, for the source of pages (`pageSourceOf`); `undefined` where there is none. */
export function pageAt(
  params: unknown,
  pages: Pages<unknown> | undefined,
  side: Side,
): readonly [params: unknown, path: string] | undefined {
  const path = neighbourIn(pages, side);
  return path === undefined ? undefined : [params ?? null, path];
}

/** Loads the page on one side of the held ones. A failure is told by the page's own reading. */
export async function loadPage(cache: Cache, list: Source<any, any>, params: unknown, side: Side): Promise<void> {
  try {
    await addPage(cache, list, params, side);
  } catch {
    // told by `PageStatus.failure`
  }
}

/**
 * The ends of a list for frameworks whose readings are live: objects that are always the newest.
 * @param params those of this moment
 * @param follow the framework's own reading of a source, for params that change
 */
export function livePages<T>(
  cache: Cache,
  list: Source<any, Pages<T>>,
  params: () => unknown,
  reading: Reading<Pages<T>>,
  follow: (page: Source<any, any>, at: () => unknown) => Pick<Reading<unknown>, "request" | "failure">,
): PagesReading<T> {
  const end = (side: Side): PageStatus => {
    const at = () => pageAt(params(), reading.value, side);
    const page = follow(pageSourceOf(list), at);
    return {
      get exists() {
        return at() !== undefined;
      },
      get request() {
        return page.request;
      },
      get failure() {
        return page.failure;
      },
    };
  };
  return {
    reading,
    next: end("next"),
    previous: end("previous"),
    loadNext: () => loadPage(cache, list, params(), "next"),
    loadPrevious: () => loadPage(cache, list, params(), "previous"),
  };
}
