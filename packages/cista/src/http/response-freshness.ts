import type { AnswerDetails, Freshness } from "../core/index.js";
import { deltaSeconds, parseCacheControl } from "./cache-control.js";
import { httpDate } from "./http-date.js";

/** When a request went out and its response came in, in milliseconds since the Unix epoch. */
export interface Times {
  readonly requestedAt: number;
  readonly receivedAt: number;
}

/** RFC 9111 §5.2.2.3: whose requirements on caching Cista knows. */
const understood = new Set([200, 203, 204, 404, 410]);

/**
 * The statements of a response on its freshness and age, lengths of time in milliseconds. A missing statement is left out.
 * Cista is a private cache: s-maxage and proxy-revalidate are not for it, and private is no hindrance. Where two things
 * contradict each other, the stricter one counts (RFC 9111 §4.2.1). An age that is only apparent, since the Date is of
 * before (§4.2.3), counts against a lifetime that the server states: where it states none, a clock that is ahead of the
 * server's would only use up the lifetime that the program has stated.
 * @param heuristic where no lifetime is stated, a tenth of the time since Last-Modified, a day at most (§4.2.2)
 */
export function freshnessOf(
  { headers, status }: Pick<Response, "headers" | "status">,
  times: Times,
  heuristic = false,
): Freshness & Pick<AnswerDetails, "age"> {
  const directives = parseCacheControl(headers.get("cache-control"));
  const said: Freshness & Pick<AnswerDetails, "age"> = {};
  const length = (name: string) =>
    directives.has(name) ? (deltaSeconds(directives.get(name)) ?? 0) * 1000 : undefined;
  // RFC 9110 §6.6.1: without a Date, the moment when it came.
  const date = httpDate(headers.get("date")) ?? times.receivedAt;

  let lifetime = length("max-age"); // §5.2.2.1; one that cannot be read makes the response stale
  const expires = headers.get("expires");
  if (lifetime === undefined && expires !== null) lifetime = Math.max(0, (httpDate(expires) ?? 0) - date); // §5.3
  const modified = heuristic ? httpDate(headers.get("last-modified")) : undefined;
  if (lifetime === undefined && modified !== undefined) {
    lifetime = Math.min(Math.max(0, date - modified) / 10, 86_400_000);
  }
  const isStated = lifetime !== undefined;
  if (lifetime !== undefined) said.maxAge = whole(lifetime);

  const whileRevalidate = length("stale-while-revalidate"); // RFC 5861 §3
  if (whileRevalidate !== undefined) said.staleWhileRevalidate = whileRevalidate;
  const ifError = length("stale-if-error"); // RFC 5861 §4
  if (ifError !== undefined) said.staleIfError = ifError;
  if (directives.has("must-revalidate")) said.mustRevalidate = true; // §5.2.2.2
  if (directives.has("immutable")) said.immutable = true; // RFC 8246 §2
  // §5.2.2.5; beside must-understand it is meant for caches that do not know the status (§5.2.2.3).
  const mustUnderstand = directives.has("must-understand");
  if (mustUnderstand ? !understood.has(status) : directives.has("no-store")) said.noStore = true;
  // §5.2.2.4: kept, but never used again without asking; the form with field names may be read as the plain one.
  // §4.1: an answer that varies by "*" fits no later request.
  if (directives.has("no-cache") || (headers.get("vary") ?? "").split(",").some((name) => name.trim() === "*")) {
    said.maxAge = 0;
    said.mustRevalidate = true;
  }

  // §4.2.3, in whole seconds as there. Of several Age values the first counts (§5.1).
  const stated = (deltaSeconds(headers.get("age")?.split(",")[0]?.trim()) ?? 0) * 1000;
  const corrected = stated + Math.max(0, times.receivedAt - times.requestedAt);
  const apparent = isStated ? times.receivedAt - date : 0;
  const age = whole(apparent > corrected + 1000 ? apparent : corrected); // a Date is only good to a second
  if (age > 0) said.age = age;
  return said;
}

/** HTTP counts in seconds. */
function whole(milliseconds: number): number {
  return Math.floor(milliseconds / 1000) * 1000;
}
