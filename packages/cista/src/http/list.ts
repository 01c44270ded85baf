import {
  type Answer,
  answer,
  defined,
  Failure,
  type LoadContext,
  missing,
  share,
  unchanged,
  type Validator,
} from "../core/index.js";
import { place } from "./address.js";
import { bodyJson, outline, passBody, tidy, unwrapped } from "./body.js";
import type { Pages, PagesDefinition, Part } from "./contract.js";
import { detailsOf, isNotModified, sameEntity, validatorOf } from "./details.js";
import { type Exchange, exchange, type Server } from "./exchange.js";
import { linkTo } from "./link.js";
import { askOf, exchangeUnlessOther, isMissing, refuseErrors } from "./load.js";

/** A part with its items. */
export interface Loaded extends Omit<Part, "count"> {
  readonly items: readonly unknown[];
}

type Definition = PagesDefinition<any, any>;

// ── The whole list ───────────────────────────────────────────────────────────

/** Asks for the first part, and for the following ones only until what is held is known to go on behind them. */
export async function loadList(
  server: Server,
  definition: Definition,
  params: unknown,
  context: LoadContext,
): Promise<Answer<unknown>> {
  const held = context.held?.value as Pages<unknown> | undefined;
  const before = held ? loadedParts(held) : [];
  const known = new Map(held?.items.map((item) => [idOf(definition, item), item]));
  const parts: Loaded[] = [];
  const came = new Set<unknown>();
  const list = askOf(server, definition, params);
  let url = list.url;
  let details: Answer<unknown>["details"] | undefined;
  for (;;) {
    const old = before.find((part) => part.url === pathOf(url));
    const asked = await exchangeUnlessOther(server, { ...list, url, held: old?.validator }, context);
    const same = old !== undefined && isUnchanged(asked, old.validator);
    if (same) await passBody(asked);
    if (!details) {
      details = detailsOf(asked, definition);
      if (same) return unchanged(details);
      if (isMissing(asked.response)) {
        await asked.response.body?.cancel();
        return missing(details);
      }
    }
    const part = same ? old : await partIn(asked, definition);
    const items: unknown[] = [];
    for (const item of part.items) {
      const id = idOf(definition, item);
      if (!came.has(id)) items.push(share(known.get(id), item));
      came.add(id);
    }
    parts.push({ ...part, items });
    const rest = restBehind(parts, came, before, definition);
    const { next } = part;
    const enough = came.size >= known.size || parts.length >= before.length || parts.some((each) => each.url === next);
    if (rest || enough || next === undefined) {
      return answer(sameAs(held, listOf([...parts, ...(rest ?? [])])), details);
    }
    url = partUrl(next, list.url);
  }
}

/**
 * What is held behind the last item that came, if it is certain that it still follows there: that is so when everything
 * that was held before that item has come too. What has moved up is left out.
 */
function restBehind(
  parts: readonly Loaded[],
  came: ReadonlySet<unknown>,
  before: readonly Loaded[],
  definition: Definition,
): Loaded[] | undefined {
  const last = idOf(definition, parts.at(-1)?.items.at(-1));
  const ids = before.flatMap(({ items }) => items.map((item) => idOf(definition, item)));
  const end = ids.indexOf(last);
  if (end < 0 || !ids.slice(0, end).every((id) => came.has(id))) return undefined;
  const ending = ids.at(-1);
  if (ending !== last && came.has(ending)) return undefined; // what the next part is reckoned from has moved up itself
  const rest: Loaded[] = [];
  let passed = 0;
  for (const part of before) {
    const behind = part.items.slice(Math.max(0, end + 1 - passed));
    passed += part.items.length;
    const items = behind.filter((item) => !came.has(idOf(definition, item)));
    const { validator, ...without } = part; // begun in the middle, it is not what its validator speaks of
    if (items.length === part.items.length) rest.push(part);
    else if (items.length > 0 || (part === before.at(-1) && rest.length > 0)) rest.push({ ...without, items });
  }
  return rest;
}

function loadedParts(pages: Pages<unknown>): Loaded[] {
  let from = 0;
  return pages.parts.map(({ count, ...part }) => {
    from += count;
    return { ...part, items: pages.items.slice(from - count, from) };
  });
}

function listOf(parts: readonly Loaded[]): Pages<unknown> {
  const items = parts.flatMap((part) => part.items);
  return {
    items,
    count: items.length,
    hasNext: parts.at(-1)?.next !== undefined,
    parts: parts.map(({ items, ...part }) => ({ ...part, count: items.length })),
  };
}

/** The held list where this one is the same, or its items. */
function sameAs(held: Pages<unknown> | undefined, list: Pages<unknown>): Pages<unknown> {
  if (held?.count !== list.count || !list.items.every((item, index) => item === held.items[index])) return list;
  const parts = share(held.parts, list.parts);
  return parts === held.parts ? held : { ...list, items: held.items, parts };
}

/** The list with one more part. What is there already is not shown twice. */
export function appended(pages: Pages<unknown>, came: Loaded, definition: Definition): Pages<unknown> {
  const there = new Set(pages.items.map((item) => idOf(definition, item)));
  const items = came.items.filter((item) => !there.has(idOf(definition, item)));
  const { next, ...last } = came;
  // A server that leads back to what is there already would be asked for ever.
  const leadsOn = next !== undefined && next !== came.url && pages.parts.every(({ url }) => url !== next);
  return listOf([...loadedParts(pages), { ...last, items, ...(leadsOn ? { next } : {}) }]);
}

// ── One part ─────────────────────────────────────────────────────────────────

/** @param next where it is, as the list itself says: also one that was stored, or came in a snapshot */
export async function loadPart(
  server: Server,
  definition: Definition,
  params: unknown,
  next: string,
  context: LoadContext,
): Promise<Loaded> {
  const list = askOf(server, definition, params);
  return partIn(await exchange(server, { ...list, url: partUrl(next, list.url) }, context), definition);
}

/** A part is at the list's own origin, whoever says where it is. @throws Failure kind "shape" for one elsewhere */
function partUrl(path: string, list: URL): URL {
  const url = URL.canParse(path, list) ? new URL(path, list) : undefined;
  if (url?.origin === list.origin) return url;
  const message = `The next part of ${place(list)} is said to be at another origin, ${url?.origin ?? tidy(path)}: it is not followed there.`;
  throw new Failure("shape", message, { retryable: false });
}

/** What tells parts apart, and is the same wherever the list's server is reached. */
function pathOf(url: URL): string {
  return url.pathname + url.search;
}

function isUnchanged(asked: Exchange, held: Validator | undefined): boolean {
  const { response } = asked;
  return isNotModified(asked) || (response.ok && sameEntity(held?.etag, response.headers.get("etag")));
}

async function partIn(asked: Exchange, definition: Definition): Promise<Loaded> {
  const { response, url, landed } = asked;
  await refuseErrors(asked);
  const body = await bodyJson(asked);
  const items = definition.unwrap ? unwrapped(definition.unwrap, body, asked) : body;
  if (!Array.isArray(items)) {
    const message = `A list was expected from ${place(url)}, but the body is ${outline(items)}. Take the list out of it by unwrap.`;
    throw new Failure("shape", message, { status: response.status, retryable: false });
  }
  const link = response.headers.get("link");
  const found = definition.next ? definition.next(body, response) : linkTo("next", link, landed);
  const next = found === undefined || found === null ? undefined : pathOf(partUrl(nextText(found, landed), url));
  return defined({ url: pathOf(url), items, next, validator: validatorOf(response.headers) });
}

/** A relative one is relative to where the part came from. */
function nextText(next: string | URL, base: URL): string {
  return URL.canParse(String(next), base) ? new URL(next, base).href : String(next);
}

function idOf({ id }: Definition, item: any): unknown {
  return id ? id(item) : (item?.id ?? JSON.stringify(item));
}
