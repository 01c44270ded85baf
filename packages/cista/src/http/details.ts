import { milliseconds } from "../core/doors/tools.js";
import type { AnswerDetails, Freshness, LoadContext, Validator } from "../core/index.js";
import { urlGroup } from "./address.js";
import type { SourceOptions } from "./contract.js";
import { freshnessOf } from "./response-freshness.js";
import type { Exchange } from "./server.js";
import { sharedUseOf } from "./shared-use.js";
import { parseStringList } from "./structured-fields.js";

type HeldPolicy = NonNullable<NonNullable<LoadContext["held"]>["policy"]>;

const members: readonly (keyof Freshness)[] = [
  "maxAge",
  "staleWhileRevalidate",
  "staleIfError",
  "mustRevalidate",
  "noStore",
  "immutable",
];

/**
 * The details of a response beside its body. Where the definition states one itself, that stands.
 * @param held how the held value may be used, which a 304 may leave as it is
 */
export function detailsOf(exchange: Exchange, policy: SourceOptions, held?: HeldPolicy): AnswerDetails {
  const { response, varies } = exchange;
  const { headers, status } = response;
  const said = freshnessOf(response, exchange, policy.heuristic);
  const details: AnswerDetails = { ...(status === 304 ? keptBy(said, headers, held) : said), status };
  for (const name of members) if (policy[name] !== undefined) delete details[name];
  const validator = validatorOf(headers);
  if (validator) details.validator = validator;
  const groups = groupsOf(exchange);
  if (groups) details.groups = groups;
  if (varies) details.varies = varies;
  const shared = sharedUseOf(response, exchange, details.maxAge ?? policy.maxAge);
  if (shared && policy.maxAge !== undefined) delete shared.maxAge;
  if (shared) details.shared = shared;
  return details;
}

/**
 * The groups that a response names (RFC 9875 §2), and the URL that it was redirected to, which is one too. A group is one only within
 * its origin, so another origin's say nothing here. Undefined for a 304 that names none: the stored ones stay.
 */
function groupsOf({ response, url, landed }: Exchange): string[] | undefined {
  const isOwn = landed.origin === url.origin;
  const named = isOwn ? parseStringList(response.headers.get("cache-groups")) : undefined;
  if (!named && response.status === 304) return undefined;
  const group = urlGroup(landed);
  return [...(named ?? []), ...(isOwn && group !== urlGroup(url) ? [group] : [])];
}

/**
 * RFC 9111 §3.2: stored fields that a 304 does not bring stay. Without a Cache-Control of its own it changes no directive; an
 * `Expires` beside the stored one can only shorten the lifetime, since max-age and no-cache win over it (§5.3).
 */
function keptBy(
  said: Freshness & Pick<AnswerDetails, "age">,
  headers: Headers,
  held: HeldPolicy | undefined,
): Freshness & Pick<AnswerDetails, "age"> {
  if (!held || headers.has("cache-control")) return said;
  const lifetime = milliseconds(said.maxAge ?? Number.POSITIVE_INFINITY, "maxAge");
  return { ...said, ...held, maxAge: Math.min(held.maxAge, lifetime) };
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
 * RFC 9111 §4.3.4: whether a 304 is about the held value: only where it was asked for, and where an entity tag that comes
 * with it is the held one's.
 */
export function isNotModified({ response: { status, headers }, condition, held }: Exchange): boolean {
  if (status !== 304 || !condition) return false;
  const etag = headers.get("etag");
  if (!etag || !isEntityTag(etag) || !held?.etag) return true;
  return etag.startsWith("W/") ? sameEntity(held.etag, etag) : etag === held.etag;
}
