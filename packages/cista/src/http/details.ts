import type { AnswerDetails, Freshness, Validator } from "../core/index.js";
import { urlLabel } from "./address.js";
import type { Policy } from "./contract.js";
import type { Exchange } from "./exchange.js";
import { freshnessOf } from "./freshness.js";
import { stringList } from "./structured-fields.js";

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
  const { response, url } = exchange;
  const { headers, status } = response;
  const details: AnswerDetails = { ...freshnessOf(response, exchange, policy.heuristic), status };
  for (const name of said) if (policy[name] !== undefined) delete details[name];
  const validator = validatorOf(headers);
  if (validator) details.validator = validator;
  const groups = stringList(headers.get("cache-groups")); // RFC 9875 §2
  if (groups || status !== 304) details.groups = [...(groups ?? []), urlLabel(url)];
  return details;
}

/** RFC 9110 §8.8. */
export function validatorOf(headers: Headers): Validator | undefined {
  const etag = headers.get("etag");
  const lastModified = headers.get("last-modified");
  if (!etag && !lastModified) return undefined;
  return { ...(etag ? { etag } : {}), ...(lastModified ? { lastModified } : {}) };
}

/** Whether two entity tags stand for equivalent bodies: RFC 9110 §8.8.3.2, weak comparison. */
export function sameEntity(one: string | null | undefined, other: string | null | undefined): boolean {
  const opaque = (tag: string) => tag.replace(/^W\//, "");
  return one != null && other != null && opaque(one) === opaque(other);
}
