import type { Cache, Selector } from "../core/index.js";
import { where } from "../core/index.js";
import { absolute, urlLabel } from "./address.js";
import { parseStringList } from "./structured-fields.js";

const safe = new Set(["GET", "HEAD", "OPTIONS", "TRACE"]);

/**
 * Invalidates what the answer to an unsafe request makes untrustworthy: the entries of its target URI, of `Location` and
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
  const labels = new Set([urlLabel(target)]);
  for (const name of ["location", "content-location"]) {
    const said = headers.get(name);
    if (said !== null && URL.canParse(said, target)) labels.add(urlLabel(new URL(said, target)));
  }
  for (const label of labels) if (new URL(label).origin !== target.origin) labels.delete(label);
  const groups = new Set(parseStringList(headers.get("cache-group-invalidation")));
  // A group is one only within its origin, which an entry's URL tells.
  const ofOrigin = (label: string) => label.startsWith(`${target.origin}/`);
  return where(
    (entry) =>
      entry.groups.some((label) => labels.has(label)) ||
      (entry.groups.some((label) => groups.has(label)) && entry.groups.some(ofOrigin)),
  );
}
