import type { Cache, EntryInfo, Selector } from "../core/index.js";
import { where } from "../core/index.js";
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
  const selector = selectorAfter(method, response, absolute(url));
  return selector ? cache.invalidate(selector) : 0;
}

/** Which entries that are; `undefined` for none. */
export function selectorAfter(method: string, { status, headers }: Response, target: URL): Selector | undefined {
  if (safe.has(method.toUpperCase()) || status < 200 || status > 399) return undefined;
  const urls = new Set([urlGroup(target)]);
  for (const name of ["location", "content-location"]) {
    const said = headers.get(name);
    if (said !== null && URL.canParse(said, target)) urls.add(urlGroup(new URL(said, target)));
  }
  for (const url of urls) if (new URL(url).origin !== target.origin) urls.delete(url);
  const ofGroups = groupTest(headers, target);
  return where((entry) => entry.groups.some((group) => urls.has(group)) || ofGroups(entry));
}

/** The entries of the groups that an answer names (RFC 9875 §3); `undefined` where it names none. */
export function namedGroups({ headers }: Response, target: URL): Selector | undefined {
  return headers.has("cache-group-invalidation") ? where(groupTest(headers, target)) : undefined;
}

/** A group is one only within its origin, which an entry's URL tells. */
function groupTest(headers: Headers, target: URL): (entry: EntryInfo) => boolean {
  const groups = new Set(parseStringList(headers.get("cache-group-invalidation")));
  const ofOrigin = (group: string) => group.startsWith(`${target.origin}/`);
  return ({ groups: its }) => its.some((group) => groups.has(group)) && its.some(ofOrigin);
}
