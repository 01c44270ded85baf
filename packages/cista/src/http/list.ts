import { type Answer, answer, Failure, type LoadContext, missing, unchanged, type Validator } from "../core/index.js";
import { omitUndefined, share } from "../core/internal.js";
import { withoutQuery } from "./address.js";
import { bodyJson, outline, passBody, tidy, unwrapped } from "./body.js";
import type { Page, Pages, PagesDefinition } from "./contract.js";
import { detailsOf, isNotModified, sameEntity, validatorOf } from "./details.js";
import { type Exchange, exchange, type Server } from "./exchange.js";
import { parseLink } from "./link.js";
import { askOf, exchangeUnlessOther, isMissing, refuseErrors } from "./load.js";

/** A page with its items. */
export interface LoadedPage extends Omit<Page, "count"> {
  readonly items: readonly unknown[];
}

type Definition = PagesDefinition<any, any>;

// ── The whole list ───────────────────────────────────────────────────────────

/** Asks for the first page, and for the following ones only until what is held is known to go on behind them. */
export async function loadList(
  server: Server,
  definition: Definition,
  params: unknown,
  context: LoadContext,
): Promise<Answer<unknown>> {
  const held = context.held?.value as Pages<unknown> | undefined;
  const before = held ? loadedPages(held) : [];
  const known = new Map(held?.items.map((item) => [idOf(definition, item), item]));
  const pages: LoadedPage[] = [];
  const came = new Set<unknown>();
  const list = askOf(server, definition, params);
  let url = startOf(before, list.url);
  let details: Answer<unknown>["details"] | undefined;
  for (;;) {
    const old = before.find((page) => page.url === pathOf(url));
    const received = await exchangeUnlessOther(server, { ...list, url, held: old?.validator }, context);
    const same = old !== undefined && isUnchanged(received, old.validator);
    if (same) await passBody(received);
    if (!details) {
      details = detailsOf(received, definition);
      if (same) return unchanged(details);
      if (isMissing(received.response)) {
        await received.response.body?.cancel();
        return missing(details);
      }
    }
    const page = same ? old : await pageIn(received, definition, params);
    const items: unknown[] = [];
    for (const item of page.items) {
      const id = idOf(definition, item);
      if (!came.has(id)) items.push(share(known.get(id), item));
      came.add(id);
    }
    pages.push({ ...page, items });
    const rest = restBehind(pages, came, before, definition);
    const { next } = page;
    const enough = came.size >= known.size || pages.length >= before.length || pages.some((each) => each.url === next);
    if (rest || enough || next === undefined) {
      return answer(sameAs(held, listOf([...pages, ...(rest ?? [])])), details);
    }
    url = pageUrl(next, list.url);
  }
}

/** The list's own URL, or that of the first page that was put before it. */
function startOf(before: readonly LoadedPage[], list: URL): URL {
  const [first] = before;
  return first && before.slice(1).some(({ url }) => url === pathOf(list)) ? pageUrl(first.url, list) : list;
}

/**
 * What is held behind the last item that came, if it is certain that it still follows there: that is so when everything
 * that was held before that item has come too. What has moved up is left out.
 */
function restBehind(
  pages: readonly LoadedPage[],
  came: ReadonlySet<unknown>,
  before: readonly LoadedPage[],
  definition: Definition,
): LoadedPage[] | undefined {
  const last = idOf(definition, pages.at(-1)?.items.at(-1));
  const ids = before.flatMap(({ items }) => items.map((item) => idOf(definition, item)));
  const end = ids.indexOf(last);
  if (end < 0 || !ids.slice(0, end).every((id) => came.has(id))) return undefined;
  const ending = ids.at(-1);
  if (ending !== last && came.has(ending)) return undefined; // what the next page is reckoned from has moved up itself
  const rest: LoadedPage[] = [];
  let passed = 0;
  for (const page of before) {
    const behind = page.items.slice(Math.max(0, end + 1 - passed));
    passed += page.items.length;
    const items = behind.filter((item) => !came.has(idOf(definition, item)));
    const { validator, ...without } = page; // begun in the middle, it is not what its validator speaks of
    if (items.length === page.items.length) rest.push(page);
    else if (items.length > 0 || (page === before.at(-1) && rest.length > 0)) rest.push({ ...without, items });
  }
  return rest;
}

function loadedPages(pages: Pages<unknown>): LoadedPage[] {
  let from = 0;
  return pages.pages.map(({ count, ...page }) => {
    from += count;
    return { ...page, items: pages.items.slice(from - count, from) };
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

/** The list with one more page. What is there already is not shown twice. */
export function appended(pages: Pages<unknown>, came: LoadedPage, definition: Definition): Pages<unknown> {
  const there = new Set(pages.items.map((item) => idOf(definition, item)));
  const items = came.items.filter((item) => !there.has(idOf(definition, item)));
  const { next, ...last } = came;
  // A server that leads back to what is there already would be asked for ever.
  const leadsOn = next !== undefined && next !== came.url && pages.pages.every(({ url }) => url !== next);
  return listOf([...loadedPages(pages), { ...last, items, ...(leadsOn ? { next } : {}) }]);
}

/** The list with one more page before it. */
export function prepended(pages: Pages<unknown>, came: LoadedPage, definition: Definition): Pages<unknown> {
  const there = new Set(pages.items.map((item) => idOf(definition, item)));
  const items = came.items.filter((item) => !there.has(idOf(definition, item)));
  const { previous, ...first } = came;
  const leadsOn = previous !== undefined && previous !== came.url && pages.pages.every(({ url }) => url !== previous);
  return listOf([{ ...first, items, ...(leadsOn ? { previous } : {}) }, ...loadedPages(pages)]);
}

// ── One page ─────────────────────────────────────────────────────────────────

/** @param next where it is, as the list itself says: also one that was stored, or came in a snapshot */
export async function loadPage(
  server: Server,
  definition: Definition,
  params: unknown,
  next: string,
  context: LoadContext,
): Promise<LoadedPage> {
  const list = askOf(server, definition, params);
  return pageIn(await exchange(server, { ...list, url: pageUrl(next, list.url) }, context), definition, params);
}

/** A page is at the list's own origin, whoever says where it is. @throws Failure kind "shape" for one elsewhere */
function pageUrl(path: string, list: URL): URL {
  const url = URL.canParse(path, list) ? new URL(path, list) : undefined;
  if (url?.origin === list.origin) return url;
  const message = `A page of ${withoutQuery(list)} is said to be at another origin, ${url?.origin ?? tidy(path)}: it is not followed there.`;
  throw new Failure("shape", message, { retryable: false });
}

/** What tells pages apart, and is the same wherever the list's server is reached. */
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
    const message = `${which} of the list "${name}" threw for the page from ${withoutQuery(url)}: ${tidy(cause)}`;
    throw new Failure("shape", message, { cause, retryable: false });
  }
  if (found === undefined || found === null) return undefined;
  // A relative one is relative to where the page came from.
  const text = URL.canParse(String(found), landed) ? new URL(found, landed).href : String(found);
  return pathOf(pageUrl(text, url));
}

function idOf({ id }: Definition, item: any): unknown {
  return id ? id(item) : (item?.id ?? JSON.stringify(item));
}
