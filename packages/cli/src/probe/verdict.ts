import { freshnessOf, parseStringList } from "cista/http";
import type { Answered, Pair, Question } from "./ask.js";
import { complaints } from "./complaints.js";
import { definition } from "./definition.js";
import { type Meaning, meanings } from "./fields.js";
import { shapeOf } from "./words.js";

/** All that a probe found out: what `--json` prints. Lengths of time are seconds, as in HTTP; `null` is "not stated". */
export interface Verdict {
  readonly asked: string;
  /** Where the answer came from. */
  readonly url: string;
  readonly method: string;
  readonly redirects: readonly { readonly status: number; readonly to: string }[];
  readonly status: number;
  readonly statusText: string;
  readonly contentType: string | null;
  readonly bytes: number;
  readonly milliseconds: number;
  /** What a source makes of this: "http", "shape" and "no-value" are kinds of failure. */
  readonly outcome: "value" | "missing" | "stream" | "http" | "shape" | "no-value";
  readonly headers: readonly Meaning[];
  readonly storable: boolean;
  readonly lifetime: number | null;
  readonly lifetimeFrom: string | null;
  readonly age: number;
  readonly staleWhileRevalidate: number | null;
  readonly staleIfError: number | null;
  readonly mustRevalidate: boolean;
  readonly immutable: boolean;
  readonly conditional: {
    readonly by: "etag" | "last-modified" | null;
    readonly status: number | null;
    readonly works: boolean;
  };
  readonly groups: readonly string[];
  /** Member names and kinds; `null` where the body is not JSON. */
  readonly shape: string | null;
  readonly complaints: readonly string[];
  /** A source to begin with; `null` where none would bring a value. */
  readonly definition: string | null;
}

export function verdict(pair: Pair, question: Pick<Question, "headers" | "body">): Verdict {
  const { first, second, by, method } = pair;
  const { headers, status, text } = first;
  const said = freshnessOf(first, first);
  const seconds = (length: unknown) => (length === undefined ? null : (length as number) / 1000);
  const body = parsed(text);
  const outcome = outcomeOf(first, body !== undefined || method === "HEAD"); // an answer to HEAD has no body
  return {
    asked: first.asked.href,
    url: first.url.href,
    method,
    redirects: first.redirects,
    status,
    statusText: first.statusText,
    contentType: headers.get("content-type"),
    bytes: first.bytes,
    milliseconds: Math.round(first.milliseconds),
    outcome,
    headers: meanings(headers, first.receivedAt),
    storable: said.noStore !== true,
    lifetime: seconds(said.maxAge),
    lifetimeFrom: lifetimeFrom(headers, said.maxAge !== undefined),
    age: seconds(said.age) ?? 0,
    staleWhileRevalidate: seconds(said.staleWhileRevalidate),
    staleIfError: seconds(said.staleIfError),
    mustRevalidate: said.mustRevalidate ?? false,
    immutable: said.immutable ?? false,
    conditional: { by, status: by && second ? second.status : null, works: by !== null && second?.status === 304 },
    groups: parseStringList(headers.get("cache-groups")) ?? [],
    shape: body === undefined ? null : shapeOf(body.value),
    complaints: complaints(pair, said, body),
    definition: withSource.has(outcome) ? definition(first, said, body, { method, ...question }) : null,
  };
}

const withSource: ReadonlySet<Verdict["outcome"]> = new Set(["value", "missing", "stream"]);

function outcomeOf({ status, text }: Answered, isJson: boolean): Verdict["outcome"] {
  if (status === 404 || status === 410) return "missing";
  if (status < 200 || status >= 300 || status === 206) return "http";
  if (text === undefined) return "stream";
  if (status === 204) return "no-value"; // RFC 9110 §15.3.5
  return isJson ? "value" : "shape";
}

function lifetimeFrom(headers: Headers, stated: boolean): string | null {
  if (!stated) return null;
  const control = headers.get("cache-control") ?? "";
  if (/(^|[,\s])no-cache/i.test(control)) return "no-cache";
  if (/(^|[,\s])\*/.test(headers.get("vary") ?? "")) return "Vary: *";
  return /max-age/i.test(control.replace(/s-maxage/gi, "")) ? "max-age" : "Expires";
}

function parsed(text: string | undefined): { readonly value: unknown } | undefined {
  try {
    return text ? { value: JSON.parse(text) } : undefined;
  } catch {
    return undefined;
  }
}
