import type { AnswerDetails, Freshness } from "../core/index.js";
import { cacheControl, deltaSeconds } from "./cache-control.js";

/** What the response itself says of its freshness; what it leaves out is left out here. Cista is a private cache. */
export function freshnessOf(headers: Headers): Freshness & Pick<AnswerDetails, "age"> {
  const directives = cacheControl(headers.get("cache-control"));
  const said: Freshness & Pick<AnswerDetails, "age"> = {};
  if (directives.has("max-age")) {
    // §4.2.1: freshness information that cannot be read makes the response stale.
    said.maxAge = (deltaSeconds(directives.get("max-age")) ?? 0) * 1000;
  }
  const whileRevalidate = deltaSeconds(directives.get("stale-while-revalidate")); // RFC 5861 §3
  if (whileRevalidate !== undefined) said.staleWhileRevalidate = whileRevalidate * 1000;
  const ifError = deltaSeconds(directives.get("stale-if-error")); // RFC 5861 §4
  if (ifError !== undefined) said.staleIfError = ifError * 1000;
  if (directives.has("must-revalidate")) said.mustRevalidate = true; // §5.2.2.2
  if (directives.has("immutable")) said.immutable = true; // RFC 8246 §2
  if (directives.has("no-store")) said.noStore = true; // §5.2.2.5
  if (directives.has("no-cache")) {
    // §5.2.2.4: kept, but never used again without asking. The form with field names may be read as the plain one.
    said.maxAge = 0;
    said.mustRevalidate = true;
  }
  const age = deltaSeconds(headers.get("age")); // §5.1
  if (age !== undefined) said.age = age * 1000;
  return said;
}
