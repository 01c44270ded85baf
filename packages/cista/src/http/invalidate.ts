import { invalidateSelected } from "../core/doors/changes.js";
import type { Cache, Selector } from "../core/index.js";
import { absolute, urlGroup } from "./address.js";
import { parseStringList } from "./structured-fields.js";

const safe = new Set(["GET", "HEAD", "OPTIONS", "TRACE"]);

/**
 * Invalidates the entries that the answer to an unsafe request names (RFC 9111 §4.4): those of its target URI, of `Location` and
 * `Content-Location` (RFC 9111 §4.4), and of the groups that it names (RFC 9875 §3), all of the same origin only.
 * For requests that a program sends itself; an error answer, or a safe method, invalidates nothing.
 * @param url the target URI, absolute; default: the response's own
 * @returns how many entries
 */
export function invalidateAfter(
  cache: Cache,
  method: string,
  response: Response,
  url: string | URL = response.url,
): number {
  return invalidateSelected(cache, selectorsAfter(method, response, absolute(url)));
}

/** Which entries these are. Selectors without functions: other tabs, stores and fleets hold entries that this cache does not. */
export function selectorsAfter(method: string, response: Response, target: URL): Selector[] {
  const { status, headers } = response;
  if (safe.has(method.toUpperCase()) || status < 200 || status > 399) return [];
  const urls = new Set([urlGroup(target)]);
  for (const name of ["location", "content-location"]) {
    const said = headers.get(name);
    if (said !== null && URL.canParse(said, target)) urls.add(urlGroup(new URL(said, target)));
  }
  const ofOrigin = [...urls].filter((url) => new URL(url).origin === target.origin);
  return [...ofOrigin.map((group) => ({ group })), ...namedGroups(response, target)];
}

/** The groups that an answer names (RFC 9875 §3). */
export function namedGroups({ headers }: Response, { origin }: URL): Selector[] {
  return (parseStringList(headers.get("cache-group-invalidation")) ?? []).map((group) => ({ group, origin }));
}
