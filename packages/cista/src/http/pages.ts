import { patchByPart } from "../core/doors/changes.js";
import { omitUndefined } from "../core/doors/tools.js";
import {
  type ArgumentsOf,
  type Cache,
  CistaError,
  type Known,
  type Source,
  type SourceDefinition,
  source,
} from "../core/index.js";
import type { Origin, Pages, PagesDefinition } from "./contract.js";
import { fitsAt, policyOf, serverOf } from "./definition.js";
import { isPages } from "./is-pages.js";
import { appended, type LoadedPage, loadList, loadPage, pageUrl, prepended } from "./list.js";
import { urlFor } from "./load.js";

type Definition = PagesDefinition<any, any>;

/** A list's pages as a source of their own, by their URL: two who want the next one share the request. */
const pagesOf = new WeakMap<Source<any, any>, { definition: Definition; page: Source<PageParams, LoadedPage> }>();

/** Of which list, by its params (null for none), and where the page is. */
export type PageParams = readonly [list: unknown, path: string];

/**
 * A list of an origin in pages: `appendPage` loads the next one. Revalidating asks for the first page, and for more of them only
 * as far as something changed; a page behind that is taken to be as it was.
 * @throws CistaError code "missing-url"
 * @example
 * const repairs = pagesFrom<{ hut: string }, Repair>(api, {
 *   name: "repairs",
 *   url: ({ hut }) => path`/api/huts/${hut}/repairs`,
 * });
 */
export function pagesFrom<P = void, T = unknown>(
  origin: Origin,
  definition: PagesDefinition<P, T>,
): Source<P, Pages<Known<T>>>;
export function pagesFrom(origin: Origin, definition: Definition): Source<any, any> {
  const server = serverOf(origin);
  const policy = policyOf(server, definition);
  const list = source({
    share: false, // done in list.ts, by what the items are
    accepts: isPages,
    ...policy,
    load: (params: unknown, context) => loadList(server, definition, params, context),
  } as SourceDefinition<any, any, any>);
  const page = source({
    ...policyOfPage(policy),
    load: ([params, path]: PageParams, context) => loadPage(server, definition, params ?? undefined, path, context),
    fits(varies, [list, path], context) {
      const params = list ?? undefined;
      const url = () => pageUrl(path, urlFor(server, definition, params));
      return fitsAt(server, definition, varies, params, () => ({ url: url(), method: "GET", context }));
    },
  });
  pagesOf.set(list, { definition, page });
  return list;
}

function policyOfPage({
  name,
  retry,
  timeout,
  requestBudget,
}: Pick<Definition, "name" | "retry" | "timeout" | "requestBudget">) {
  return omitUndefined({
    name: `${name}.page`,
    retry,
    timeout,
    requestBudget,
    maxAge: 0,
    mustRevalidate: true,
    retain: 0,
  });
}

/**
 * Loads the next page behind the held ones. Joins one under way; resolves at once where there is none. Rejects with a
 * `Failure` where it could not be loaded: the list stays as it was.
 * @throws CistaError code "not-a-list" for a source that `pagesFrom` has not made
 */
export async function appendPage<P, T>(
  cache: Cache,
  source: Source<P, Pages<T>>,
  ...params: ArgumentsOf<NoInfer<P>>
): Promise<void> {
  await addPage(cache, source, params[0], "next");
}

/**
 * Loads the page before the held ones, as `appendPage` does the next one.
 * @throws CistaError code "not-a-list" for a source that `pagesFrom` has not made
 */
export async function prependPage<P, T>(
  cache: Cache,
  source: Source<P, Pages<T>>,
  ...params: ArgumentsOf<NoInfer<P>>
): Promise<void> {
  await addPage(cache, source, params[0], "previous");
}

/** On which side of the held pages. */
export type Side = "next" | "previous";

/** Where the page on one side of a list is; undefined where there is none, or nothing is held. */
export function neighbourIn(pages: Pages<unknown> | undefined, side: Side): string | undefined {
  return side === "next" ? pages?.pages.at(-1)?.next : pages?.pages[0]?.previous;
}

/**
 * A list's pages as a source of their own, and the params of the one at a path.
 * @throws CistaError code "not-a-list" for a source that `pagesFrom` has not made
 */
export function pageSourceOf(list: Source<any, any>): Source<PageParams, LoadedPage> {
  return madeBy(list).page;
}

function madeBy(source: Source<any, any>) {
  const list = pagesOf.get(source);
  if (list) return list;
  throw new CistaError(
    "not-a-list",
    DEVELOPMENT && `A source made by pagesFrom was expected, but "${source.name}" is none.`,
  );
}

export async function addPage(cache: Cache, source: Source<any, any>, params: unknown, side: Side): Promise<void> {
  const { page, definition } = madeBy(source);
  const add = side === "next" ? appended : prepended;
  const view = cache.view<any, any, any>(source, params);
  const held = (): Pages<unknown> | undefined => view.get().value;
  let mode: "default" | "no-cache" = "default";
  for (let url = neighbourIn(held(), side); url !== undefined; mode = "no-cache") {
    const at = [params ?? null, url] as const;
    const before = view.get();
    const coming = cache.read(page, at, { cache: mode });
    const shown = cache.view(page, at, { when: false });
    const leave = shown.subscribe(() => {});
    try {
      const came = await coming;
      const isListAsked = view.get().request === "running";
      if (isListAsked) await view.revalidate(); // the list itself is being asked about: that first
      const { value, asOf } = view.get();
      const found = neighbourIn(value, side);
      // An answer that changed the list may have moved the items that the page begins with.
      const isOutrun = asOf !== before.asOf && value !== before.value;
      // While the list was waited for, the page may have been invalidated, or the user may have changed.
      if (found === url && !isOutrun && (!isListAsked || shown.get().value === came)) {
        patchByPart(cache, [source, params], [page, at], (pages) => add(pages, came, definition));
        return;
      }
      if (held()?.pages.some((page) => page.url === url)) return; // somebody else has put it there
      url = found; // the list ends elsewhere now, or the page is asked for anew
    } finally {
      leave();
    }
  }
}
