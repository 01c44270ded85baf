import type { Cache } from "../core/index.js";
import { absolute, urlLabel } from "./address.js";
import { stringList } from "./structured-fields.js";

const safe = new Set(["GET", "HEAD", "OPTIONS", "TRACE"]);

/**
 * What the answer to an unsafe request makes untrustworthy: the entries of its target URI, of `Location` and
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
  if (safe.has(method.toUpperCase()) || response.status < 200 || response.status > 399) return 0;
  const target = absolute(url);
  const labels = new Set([urlLabel(target)]);
  for (const name of ["location", "content-location"]) {
    const said = response.headers.get(name);
    if (said !== null && URL.canParse(said, target)) labels.add(urlLabel(new URL(said, target)));
  }
  for (const label of labels) if (new URL(label).origin !== target.origin) labels.delete(label);
  const groups = new Set(stringList(response.headers.get("cache-group-invalidation")));
  // A group is one only within its origin, which an entry's URL tells.
  const ofOrigin = (label: string) => label.startsWith(`${target.origin}/`);
  return cache.invalidate({
    where: (entry) =>
      entry.groups.some((label) => labels.has(label)) ||
      (entry.groups.some((label) => groups.has(label)) && entry.groups.some(ofOrigin)),
  });
}
