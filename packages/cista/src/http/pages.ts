import { type ArgumentsOf, type Cache, CistaError, type Source, type SourceDefinition, source } from "../core/index.js";
import { omitUndefined } from "../core/internal.js";
import type { Pages, PagesDefinition } from "./contract.js";
import type { Server } from "./exchange.js";
import { isPages } from "./is-pages.js";
import type { LoadedPage } from "./list.js";

type Definition = PagesDefinition<any, any>;

/** A list's pages as a source of their own, by their URL: two who want the next one share the request. */
const pagesOf = new WeakMap<Source<any, any>, { definition: Definition; page: Source<PageParams, LoadedPage> }>();

/** Of which list, by its params (null for none), and where the page is. */
type PageParams = readonly [list: unknown, path: string];

/** A source of lists in pages. @param policy what of the definition is the core's */
export function pagesSource(
  server: Server,
  definition: Definition,
  policy: Pick<Definition, "name" | "retry" | "timeout" | "requestBudget">,
): Source<any, any> {
  const list = source({
    share: false, // done in list.ts, by what the items are
    accepts: isPages,
    ...policy,
    load: async (params: unknown, context) => (await import("./list.js")).loadList(server, definition, params, context),
  } as SourceDefinition<any, any, any>);
  const page = source({
    ...policyOfPage(policy),
    load: async ([params, path]: PageParams, context) =>
      (await import("./list.js")).loadPage(server, definition, params ?? undefined, path, context),
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
 * Loads the next page behind what is held. Joins one under way; resolves at once where there is none. Rejects with a
 * `Failure` where it could not be had: the list stays as it was.
 * @throws CistaError code "pages" for a source that `origin().pages` has not made
 */
export async function appendPage<P, T>(
  cache: Cache,
  source: Source<P, Pages<T>>,
  ...params: ArgumentsOf<P>
): Promise<void> {
  const list = pagesOf.get(source);
  if (!list) {
    throw new CistaError(
      "pages",
      DEVELOPMENT && `appendPage takes a source made by origin().pages, but "${source.name}" is none.`,
    );
  }
  const { appended } = await import("./list.js");
  const view = cache.view<any, any>(source, params[0]);
  const held = (): Pages<unknown> | undefined => view.get().value;
  for (let url = held()?.pages.at(-1)?.next; url !== undefined; ) {
    const came = await cache.read(list.page, [params[0] ?? null, url]);
    if (view.get().request === "running") await view.revalidate(); // the list itself is being asked about: that first
    const next = held()?.pages.at(-1)?.next;
    if (next === url) {
      cache.patch<any, any>(source, params[0], (pages: Pages<unknown>) => appended(pages, came, list.definition));
      return;
    }
    if (held()?.pages.some((page) => page.url === url)) return; // somebody else has put it there
    url = next; // the list ends elsewhere now
  }
}
