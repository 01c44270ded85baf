import type { AnswerDetails } from "cista";
import { httpDate, parseCacheControl, parseStringList } from "cista/http";
import type { Pair } from "./ask.js";
import { inWords } from "./words.js";

const fiveMinutes = 300_000;
/** What CORS hides from a page unless it is exposed, and what for. */
const hidden: readonly (readonly [name: string, cost: string])[] = [
  ["ETag", "unchanged bodies are parsed again"],
  ["Age", "time in caches on the way is not counted"],
  ["Date", "time in caches on the way is not counted"],
  ["Cache-Groups", "its groups are not seen"],
  ["Retry-After", "it is not known how long to wait"],
  ["Link", "the next page is not found"],
];

/** Where a server contradicts itself, or does what it did not mean: a sentence each, with what follows from it. */
export function complaints(pair: Pair, said: AnswerDetails, body: Body): string[] {
  const { first } = pair;
  const found = [
    ...aboutValidators(pair, said),
    ...aboutLifetimes(first, said),
    ...aboutContradictions(first, said),
    ...aboutClocksAndLists(first),
    ...aboutBody(pair, body),
    ...aboutSigningIn(first),
  ];
  return [...found.filter((each) => typeof each === "string"), ...notExposed(first.headers)];
}

type Body = { readonly value: unknown } | undefined;
/** A sentence, where there is something to say. */
type Found = (string | false | undefined)[];

function aboutValidators({ first, second, by }: Pair, said: AnswerDetails): Found {
  const { headers, status, text } = first;
  const etag = headers.get("etag");
  const same = second !== undefined && second.text === text && second.status === status;
  const tagNow = second?.headers.get("etag") ?? null;
  return [
    same &&
      etag !== null &&
      tagNow !== etag &&
      `The ETag changed from ${etag} to ${tagNow ?? "none"} while the body stayed the same: no request about it can ever be answered 304.`,
    same &&
      by === "etag" &&
      tagNow === etag &&
      `The body was sent again though If-None-Match held its very ETag, ${etag}: conditional requests are ignored.`,
    same &&
      by === "last-modified" &&
      "The body was sent again though it was not modified since: conditional requests are ignored.",
    second?.status === 200 &&
      !same &&
      etag !== null &&
      tagNow === etag &&
      !etag.startsWith("W/") &&
      `The body changed while its strong ETag stayed ${etag}: who holds the old one is told that nothing changed.`,
    by === null &&
      status === 200 &&
      text !== undefined &&
      !said.noStore &&
      said.immutable !== true &&
      "There is neither ETag nor Last-Modified: asking again always costs the whole body.",
  ];
}

function aboutLifetimes({ headers, receivedAt }: Pair["first"], _said: AnswerDetails): Found {
  const control = parseCacheControl(headers.get("cache-control"));
  const has = (name: string) => control.has(name);
  const maxAge = control.get("max-age");
  const expires = headers.get("expires");
  const date = httpDate(headers.get("date"));
  return [
    has("no-store") &&
      !has("must-understand") &&
      (has("max-age") || expires !== null) &&
      "no-store stands beside a lifetime: it is not stored, so the lifetime says nothing.",
    has("no-cache") &&
      maxAge !== undefined &&
      maxAge !== "0" &&
      `no-cache stands beside max-age=${maxAge}: it is asked about each time, whatever its age.`,
    maxAge !== undefined &&
      !/^\d+$/.test(maxAge) &&
      `max-age cannot be read, or is said twice with different numbers (${headers.get("cache-control")}): the response counts as stale.`,
    expires !== null &&
      httpDate(expires) === undefined &&
      expires !== "0" &&
      expires !== "-1" &&
      `Expires is no HTTP-date (${expires}): it counts as past.`,
    maxAge !== undefined &&
      /^\d+$/.test(maxAge) &&
      httpDate(expires) !== undefined &&
      Math.abs((httpDate(expires) as number) - (date ?? receivedAt) - Number(maxAge) * 1000) > 2000 &&
      "max-age and Expires disagree: max-age counts, Expires is passed over.",
  ];
}

function aboutContradictions({ headers }: Pair["first"], said: AnswerDetails): Found {
  const control = parseCacheControl(headers.get("cache-control"));
  const has = (name: string) => control.has(name);
  return [
    said.mustRevalidate &&
      (has("stale-while-revalidate") || has("stale-if-error")) &&
      "must-revalidate or no-cache stands beside a stale-… allowance: the allowance says nothing.",
    has("immutable") &&
      !said.maxAge &&
      "immutable says nothing without a lifetime: it holds only while the response is fresh.",
    said.maxAge !== undefined &&
      (said.maxAge as number) > 0 &&
      ((said.age as number) ?? 0) >= (said.maxAge as number) &&
      `It is ${inWords((said.age as number) ?? 0)} old when it comes, older than its lifetime: it is never fresh.`,
    has("s-maxage") &&
      said.maxAge === undefined &&
      "s-maxage is for shared caches only: a browser has no lifetime to go by.",
  ];
}

function aboutClocksAndLists({ headers, receivedAt }: Pair["first"]): Found {
  const date = httpDate(headers.get("date"));
  const off = date === undefined ? 0 : date - receivedAt;
  return [
    headers.has("date") && date === undefined && `Date is no HTTP-date (${headers.get("date")}).`,
    off < -fiveMinutes && !headers.has("age")
      ? `Date is ${inWords(-off)} behind this machine's clock: everything comes that old. One of the two clocks is wrong.`
      : off > fiveMinutes && `Date is ${inWords(off)} ahead of this machine's clock. One of the two clocks is wrong.`,
    headers.has("cache-groups") &&
      !parseStringList(headers.get("cache-groups")) &&
      `Cache-Groups is not a list of strings in double quotes (${headers.get("cache-groups")}): it is passed over.`,
  ];
}

function aboutBody({ first: { headers, status, text }, method }: Pair, body: Body): Found {
  const type = headers.get("content-type") ?? "no content type";
  const json = /\bjson\b/i.test(type);
  return [
    text === "" &&
      method !== "HEAD" &&
      status >= 200 &&
      status < 300 &&
      status !== 204 &&
      "The body is empty, which is no JSON. Answer 204 where there is no content, or give the source a parse function.",
    Boolean(text) && !body && json && "The body says that it is JSON, but it cannot be parsed.",
    Boolean(text) &&
      !body &&
      !json &&
      status < 400 &&
      `The body is not JSON (${type}); it begins ${JSON.stringify(text?.trim().slice(0, 60))}. Is this a page to sign in, or the wrong address? Else give the source a parse function.`,
    Boolean(body) && !json && `The body is JSON, but its content type is ${type}.`,
  ];
}

/** RFC 9110 §15.5.2. */
function aboutSigningIn({ status, headers }: Pair["first"]): Found {
  const wanted = headers.get("www-authenticate");
  return [
    status === 401 &&
      `It answers only who has signed in${wanted ? ` (WWW-Authenticate: ${wanted})` : ""}. Probe it with what it wants, such as -H "Authorization: Bearer …"; a program says it by origin({ headers, renew }), where renew gets a new token once for all requests that are refused.`,
  ];
}

/** Only where the server lets other origins read it at all. */
function notExposed(headers: Headers): string[] {
  if (!headers.has("access-control-allow-origin")) return [];
  const exposed = (headers.get("access-control-expose-headers") ?? "").toLowerCase().split(/\s*,\s*/);
  if (exposed.includes("*")) return [];
  const missing = hidden.filter(([name]) => headers.has(name) && !exposed.includes(name.toLowerCase()));
  if (missing.length === 0) return [];
  const costs = [...new Set(missing.map(([, cost]) => cost))].join(", ");
  return [
    `Pages of other origins do not see ${missing.map(([name]) => name).join(", ")}: name them in Access-Control-Expose-Headers, or ${costs}.`,
  ];
}
