import type { AnswerDetails, Freshness, Validator } from "../core/index.js";
import type { Policy } from "./contract.js";
import type { Exchange } from "./exchange.js";
import { freshnessOf } from "./response-freshness.js";
import { sharedUseOf } from "./shared-use.js";
import { parseStringList } from "./structured-fields.js";

const said: readonly (keyof Freshness)[] = [
  "maxAge",
  "staleWhileRevalidate",
  "staleIfError",
  "mustRevalidate",
  "noStore",
  "immutable",
];

/** What a response says beside its body; where the definition has said it itself, that stands. */
export function detailsOf(exchange: Exchange, policy: Policy): AnswerDetails {
  const { response, url, landed, varies } = exchange;
  const { headers, status } = response;
  const details: AnswerDetails = { ...freshnessOf(response, exchange, policy.heuristic), status };
  for (const name of said) if (policy[name] !== undefined) delete details[name];
  const validator = validatorOf(headers);
  if (validator) details.validator = validator;
  // RFC 9875 §2; a group is one only within its origin, so another origin's say nothing here.
  const groups = landed.origin === url.origin ? parseStringList(headers.get("cache-groups")) : undefined;
  if (groups || status !== 304) details.groups = groups ?? [];
  if (varies) details.varies = varies;
  const shared = sharedUseOf(response, exchange, details.maxAge ?? policy.maxAge);
  if (shared && policy.maxAge !== undefined) delete shared.maxAge;
  if (shared) details.shared = shared;
  return details;
}

/** RFC 9110 §8.8.3. */
export function isEntityTag(text: string): boolean {
  return /^(?:W\/)?"[\x21\x23-\x7e\x80-\xff]*"$/.test(text);
}

/** RFC 9110 §8.8. */
export function validatorOf(headers: Headers): Validator | undefined {
  const given = headers.get("etag");
  const etag = given && isEntityTag(given) ? given : undefined; // what is no entity tag is as good as none
  const lastModified = headers.get("last-modified");
  if (!etag && !lastModified) return undefined;
  return { ...(etag ? { etag } : {}), ...(lastModified ? { lastModified } : {}) };
}

/** Whether two entity tags stand for equivalent bodies: RFC 9110 §8.8.3.2, weak comparison. */
export function sameEntity(one: string | null | undefined, other: string | null | undefined): boolean {
  const opaque = (tag: string) => tag.replace(/^W\//, "");
  return one != null && other != null && isEntityTag(other) && opaque(one) === opaque(other);
}

/**
 * RFC 9111 §4.3.4: whether a 304 is about what is held: only where it was asked for, and where an entity tag that comes
 * with it is the held one's.
 */
export function isNotModified({ response: { status, headers }, condition, held }: Exchange): boolean {
  if (status !== 304 || !condition) return false;
  const etag = headers.get("etag");
  if (!etag || !isEntityTag(etag) || !held?.etag) return true;
  return etag.startsWith("W/") ? sameEntity(held.etag, etag) : etag === held.etag;
}
