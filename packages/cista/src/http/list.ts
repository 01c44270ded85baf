import { forBoth, omitUndefined, share } from "../core/doors/tools.js";
import { type Answer, answer, Failure, type LoadContext, missing, unchanged, type Validator } from "../core/index.js";
import { withoutQuery } from "./address.js";
import { bodyJson, outline, passBody, tidy, unwrapped } from "./body.js";
import type { ListPage, Pages, PagesDefinition } from "./contract.js";
import { detailsOf, isNotModified, sameEntity, validatorOf } from "./details.js";
import { exchange } from "./exchange.js";
import { parseLink } from "./link.js";
import { askOf, exchangeUnlessOther, isMissing, refuseErrors } from "./load.js";
import type { Exchange, Server } from "./server.js";

/** A page with its items. */
export interface LoadedPage extends Omit<ListPage, "count"> {
  readonly items: readonly unknown[];
}

type Definition = PagesDefinition<any, any>;

// ── The whole list ───────────────────────────────────────────────────────────

/**
 * Requests the first page, and the following ones only until the held list is known to go on behind them. Of a list that was
 * invalidated, all that were loaded: the change may be anywhere in it.
 */
export async function loadList(
  server: Server,
  definition: Definition,
  params: unknown,
  context: LoadContext,
): Promise<Answer<unknown>> {
  const { value, varies: heldFor, isInvalidated } = context.held ?? {};
  const held = value as Pages<unknown> | undefined;
  const before = new HeldPages(held, definition);
  const pages: LoadedPage[] = [];
  const urls = new Set<string>();
  const list = askOf(server, definition, params);
  let url = startOf(before.pages, list.url);
  let details: Answer<unknown>["details"] | undefined;
  let varies: Exchange["varies"];
  for (;;) {
    const old = before.at(pathOf(url));
    const received = await exchangeUnlessOther(server, { ...list, url, held: old?.validator }, context);
    const same = old !== undefined && isUnchanged(received, old.validator);
    if (same) await passBody(received);
    varies = forBoth(forBoth(varies, received.varies), same ? heldFor : undefined);
    if (!details) {
      details = detailsOf(received, definition, context.held?.policy);
      if (same && !isInvalidated) return unchanged(details);
      if (isMissing(received.response)) {
        await received.response.body?.cancel();
        return missing(details);
      }
    }
    const page = same ? old : await pageIn(received, definition, params);
    pages.push(pageWith(page, before.take(page.items)));
    urls.add(page.url);
    const rest = isInvalidated ? undefined : before.restBehind(pages.at(-1)?.items.at(-1));
    const { next } = page;
    const enough = before.isCovered || pages.length >= before.loaded || (next !== undefined && urls.has(next));
    if (rest || enough || next === undefined) {
      // The user may have changed between two of these requests.
      varies = forBoth(varies, rest ? heldFor : undefined);
      return answer(sameAs(held, listOf([...pages, ...(rest ?? [])])), varies ? { ...details, varies } : details);
    }
    url = pageUrl(next, list.url);
  }
}

/** The held part of a list while it is requested: each item is looked at once, however many pages come. */
class HeldPages {
  readonly pages: readonly LoadedPage[];
  /** How many pages were loaded: the rest of one, behind items that came before it, is no page of its own. */
  readonly loaded: number;
  readonly #definition: Definition;
  readonly #byUrl = new Map<string, LoadedPage>();
  /** The held items by their ids, in order; and where each stands. */
  readonly #ids: unknown[] = [];
  readonly #places = new Map<unknown, number>();
  readonly #items: readonly unknown[];
  /** The ids that came, and how many of the first held items are among them. */
  readonly #came = new Set<unknown>();
  #leading = 0;

  constructor(held: Pages<unknown> | undefined, definition: Definition) {
    this.#definition = definition;
    this.pages = held ? loadedPages(held) : [];
    for (const page of this.pages) if (!this.#byUrl.has(page.url)) this.#byUrl.set(page.url, page);
    this.loaded = this.#byUrl.size;
    this.#items = held?.items ?? [];
    for (const item of this.#items) {
      const id = idOf(definition, item);
      this.#places.set(id, this.#ids.push(id) - 1);
    }
  }

  at(url: string): LoadedPage | undefined {
    return this.#byUrl.get(url);
  }

  /** Every held item has come. */
  get isCovered(): boolean {
    return this.#came.size >= this.#places.size;
  }

  /** A page's items that have not come before, those that are held by their held references. */
  take(items: readonly unknown[]): unknown[] {
    const own: unknown[] = [];
    for (const item of items) {
      const id = idOf(this.#definition, item);
      const place = this.#places.get(id);
      if (!this.#came.has(id)) own.push(share(place === undefined ? undefined : this.#items[place], item));
      this.#came.add(id);
    }
    while (this.#leading < this.#ids.length && this.#came.has(this.#ids[this.#leading])) this.#leading++;
    return own;
  }

  /**
   * The held items behind the last item that came, if it is certain that they still follow there: that is so when all items
   * that were held before that item have come too. Items that have moved up are left out.
   */
  restBehind(lastItem: unknown): LoadedPage[] | undefined {
    const last = idOf(this.#definition, lastItem);
    const end = this.#places.get(last);
    if (end === undefined || this.#leading < end) return undefined;
    const ending = this.#ids.at(-1);
    if (ending !== last && this.#came.has(ending)) return undefined; // what the next page is reckoned from has moved up itself
    const rest: LoadedPage[] = [];
    let passed = 0;
    for (const page of this.pages) {
      const from = Math.max(0, end + 1 - passed);
      const items = page.items.filter((_, at) => at >= from && !this.#came.has(this.#ids[passed + at]));
      passed += page.items.length;
      if (items.length === page.items.length) rest.push(page);
      else if (items.length > 0 || (page === this.pages.at(-1) && rest.length > 0)) rest.push(pageWith(page, items));
    }
    return rest;
  }
}

/** The page with these of its items. With fewer it is not what its validator speaks of. */
function pageWith(page: LoadedPage, items: readonly unknown[]): LoadedPage {
  if (items.length === page.items.length) return { ...page, items };
  const { validator, ...without } = page;
  return { ...without, items };
}

/** The list's own URL, or that of the first page that was put before it. */
function startOf(before: readonly LoadedPage[], list: URL): URL {
  const [first] = before;
  return first && before.slice(1).some(({ url }) => url === pathOf(list)) ? pageUrl(first.url, list) : list;
}

/** A list's pages with their items. Items that a program has put in, without counting them to a page, belong to the last one. */
function loadedPages(pages: Pages<unknown>): LoadedPage[] {
  let from = 0;
  return pages.pages.map(({ count, ...page }, index) => {
    const to = index === pages.pages.length - 1 ? pages.items.length : from + count;
    const items = pages.items.slice(from, to);
    from = to;
    return { ...page, items };
  });
}

function listOf(pages: readonly LoadedPage[]): Pages<unknown> {
  const items = pages.flatMap((page) => page.items);
  return {
    items,
    count: items.length,
    hasNext: pages.at(-1)?.next !== undefined,
    hasPrevious: pages[0]?.previous !== undefined,
    pages: pages.map(({ items, ...page }) => ({ ...page, count: items.length })),
  };
}

/** The held list where this one is the same, or its items. */
function sameAs(held: Pages<unknown> | undefined, list: Pages<unknown>): Pages<unknown> {
  if (held?.count !== list.count || !list.items.every((item, index) => item === held.items[index])) return list;
  const pages = share(held.pages, list.pages);
  return pages === held.pages ? held : { ...list, items: held.items, pages };
}

/** The list with one more page. Items that are there already are not shown twice. */
export function appended(pages: Pages<unknown>, came: LoadedPage, definition: Definition): Pages<unknown> {
  const { items, ids } = newItems(pages, came, definition);
  const { next, ...last } = pageWith(came, items);
  // A server that leads back to a page that is there already would be asked for ever.
  const leadsOn = next !== undefined && next !== came.url && pages.pages.every(({ url }) => url !== next);
  const { items: _, ...page } = omitUndefined({ ...last, count: items.length, next: leadsOn ? next : undefined });
  return joined([...pages.items, ...items], [...counted(pages), page], ids);
}

/** The list with one more page before it. */
export function prepended(pages: Pages<unknown>, came: LoadedPage, definition: Definition): Pages<unknown> {
  const { items, ids } = newItems(pages, came, definition);
  const { previous, ...first } = pageWith(came, items);
  const leadsOn = previous !== undefined && previous !== came.url && pages.pages.every(({ url }) => url !== previous);
  const { items: _, ...page } = omitUndefined({
    ...first,
    count: items.length,
    previous: leadsOn ? previous : undefined,
  });
  return joined([...items, ...pages.items], [page, ...counted(pages)], ids);
}

/** The ids of a list's items, for the next page that is put to it: the newest list of them has them. */
const idsOf = new WeakMap<readonly unknown[], Set<unknown>>();

/** A page's items that are not in the list, and the ids of both. */
function newItems(
  { items: there }: Pages<unknown>,
  came: LoadedPage,
  definition: Definition,
): { items: unknown[]; ids: Set<unknown> } {
  const ids = idsOf.get(there) ?? new Set(there.map((item) => idOf(definition, item)));
  idsOf.delete(there); // it gets more of them now
  const items = came.items.filter((item) => !ids.has(idOf(definition, item)));
  for (const item of items) ids.add(idOf(definition, item));
  return { items, ids };
}

/** The last page also has the items that a program has put in. */
function counted({ items, pages }: Pages<unknown>): readonly ListPage[] {
  const missed = items.length - pages.reduce((sum, { count }) => sum + count, 0);
  if (missed === 0) return pages;
  return pages.map((page, index) => (index === pages.length - 1 ? { ...page, count: page.count + missed } : page));
}

function joined(items: readonly unknown[], pages: readonly ListPage[], ids: Set<unknown>): Pages<unknown> {
  idsOf.set(items, ids);
  return {
    items,
    count: items.length,
    hasNext: pages.at(-1)?.next !== undefined,
    hasPrevious: pages[0]?.previous !== undefined,
    pages,
  };
}

// ── One page ─────────────────────────────────────────────────────────────────

/** @param next where it is, as the list itself says: also one that was stored, or came in a snapshot */
export async function loadPage(
  server: Server,
  definition: Definition,
  params: unknown,
  next: string,
  context: LoadContext,
): Promise<Answer<LoadedPage>> {
  const list = askOf(server, definition, params);
  const received = await exchange(server, { ...list, url: pageUrl(next, list.url) }, context);
  const { varies } = received;
  return answer(await pageIn(received, definition, params), varies ? { varies } : {});
}

/** A page is at the list's own origin, wherever its URL comes from. @throws Failure kind "shape" for one elsewhere */
export function pageUrl(path: string, list: URL): URL {
  const url = URL.canParse(path, list) ? new URL(path, list) : undefined;
  if (url?.origin === list.origin) return url;
  const message = `A page of ${withoutQuery(list)} is said to be at another origin, ${url?.origin ?? tidy(path)}: it is not followed there.`;
  throw new Failure("shape", message, { retryable: false });
}

/** The identity of a page: the same wherever the list's server is reached. */
function pathOf(url: URL): string {
  return url.pathname + url.search;
}

function isUnchanged(received: Exchange, held: Validator | undefined): boolean {
  const { response } = received;
  return isNotModified(received) || (response.ok && sameEntity(held?.etag, response.headers.get("etag")));
}

async function pageIn(received: Exchange, definition: Definition, params: unknown): Promise<LoadedPage> {
  const { response, url } = received;
  await refuseErrors(received);
  const body = await bodyJson(received);
  const items = definition.unwrap ? unwrapped(definition.unwrap, body, received) : body;
  if (!Array.isArray(items)) {
    const message = `A list was expected from ${withoutQuery(url)}, but the body is ${outline(items)}. Take the list out of it by unwrap.`;
    throw new Failure("shape", message, { status: response.status, retryable: false });
  }
  return omitUndefined({
    url: pathOf(url),
    items,
    next: neighbourOf("next", body, received, definition, params),
    previous: neighbourOf("previous", body, received, definition, params),
    validator: validatorOf(response.headers),
  });
}

/** Where the next page is, or the one before: by the definition, else by the Link field (RFC 8288; IANA link relations). */
function neighbourOf(
  which: "next" | "previous",
  body: unknown,
  { response, url, landed }: Exchange,
  definition: Definition,
  params: unknown,
): string | undefined {
  const link = response.headers.get("link");
  const { [which]: find, name } = definition;
  let found: string | URL | null | undefined;
  try {
    found = find
      ? find(body, response, params)
      : which === "next"
        ? parseLink("next", link, landed)
        : (parseLink("prev", link, landed) ?? parseLink("previous", link, landed));
  } catch (cause) {
    if (cause instanceof Failure) throw cause;
    const message = `${which} of the list "${name}" threw for the page from ${withoutQuery(url)}: ${tidy(cause)}`;
    throw new Failure("shape", message, { cause, retryable: false });
  }
  if (found === undefined || found === null) return undefined;
  refuseNoAddress(which, name, found, url);
  // A relative one is relative to where the page came from.
  const text = URL.canParse(String(found), landed) ? new URL(found, landed).href : String(found);
  return pathOf(pageUrl(text, url));
}

/** @throws Failure kind "shape" for a text that is no URL at all. A cursor is one by its form: in development there is a warning. */
function refuseNoAddress(which: "next" | "previous", name: string, found: unknown, url: URL): void {
  if (typeof found !== "string" && !(found instanceof URL)) {
    const message = `${which} of the list "${name}" gave ${tidy(found)} for the page from ${withoutQuery(url)}: it wants a URL, such as withQuery("${url.pathname}", { page: 2 }).`;
    throw new Failure("shape", message, { retryable: false });
  }
  if (!DEVELOPMENT || found instanceof URL || /[/?.]/.test(found) || warned.has(name)) return;
  warned.add(name);
  console.warn(
    `Cista: ${which} of the list "${name}" gave ${JSON.stringify(tidy(found))}, which is asked for as the path ${new URL(found, url).pathname}. It wants the page's URL: for a cursor write withQuery("${url.pathname}", { cursor }).`,
  );
}

/** The lists whose definitions have been warned of. */
const warned = new Set<string>();

function idOf({ id }: Definition, item: any): unknown {
  return id ? id(item) : (item?.id ?? JSON.stringify(item));
}
