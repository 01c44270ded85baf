import {
  type Answer,
  type AnswerDetails,
  answer,
  CistaError,
  Failure,
  type LoadContext,
  missing,
  unchanged,
  type Validator,
} from "../core/index.js";
import { isOwnOrigin, pageAddress } from "./address.js";
import { bodyText, parseJson, place } from "./body.js";
import { freshnessOf } from "./freshness.js";
import type { HttpSourceDefinition, OriginOptions } from "./origin.js";
import { httpFailure } from "./problem.js";
import { stringList } from "./structured-fields.js";

type Settings = Omit<OriginOptions, "base"> & { base: URL | undefined };
type Definition = HttpSourceDefinition<unknown, unknown>;

/** One GET, and what its response means. */
export async function load(
  settings: Settings,
  definition: Definition,
  params: unknown,
  context: LoadContext,
): Promise<Answer<unknown>> {
  const url = resolved(settings, definition, params);
  const headers = await headersFor(settings, definition, url);
  const own = isOwnOrigin(url);
  if (own) addConditions(headers, context);
  const send = settings.fetch ?? globalThis.fetch;
  const response = await send(url, {
    headers,
    signal: context.signal,
    ...(settings.credentials ? { credentials: settings.credentials } : {}),
    // Here Cista is the cache, and its 304s are to be seen; across origins the browser's own does the asking,
    // because a condition of ours would cost a preflight (Fetch, CORS-safelisted request headers).
    cache: own ? "no-store" : context.mode,
  });
  return meaningOf(response, settings, definition);
}

async function meaningOf(response: Response, settings: Settings, definition: Definition): Promise<Answer<unknown>> {
  const details = detailsOf(response, definition);
  if (response.status === 304) return unchanged(details);
  if (response.status === 404 || response.status === 410) {
    await response.body?.cancel();
    return missing(details);
  }
  const maxBody = settings.maxBody ?? 16 * 2 ** 20;
  if (!response.ok) throw await httpFailure(response, maxBody);
  const body = definition.parse
    ? await definition.parse(response)
    : parseJson(await bodyText(response, maxBody), response);
  return answer(definition.unwrap ? unwrapped(definition.unwrap, body, response) : body, details);
}

/** What the response says beside its body; where the definition has said it itself, that stands. */
function detailsOf(response: Response, definition: Definition): AnswerDetails {
  const { headers, status } = response;
  const details: AnswerDetails = { ...freshnessOf(headers), status };
  for (const name of [
    "maxAge",
    "staleWhileRevalidate",
    "staleIfError",
    "mustRevalidate",
    "noStore",
    "immutable",
  ] as const) {
    if (definition[name] !== undefined) delete details[name];
  }
  const etag = headers.get("etag");
  const lastModified = headers.get("last-modified");
  if (etag || lastModified) {
    const validator: Validator = {};
    if (etag) validator.etag = etag;
    if (lastModified) validator.lastModified = lastModified;
    details.validator = validator;
  }
  const groups = stringList(headers.get("cache-groups")); // RFC 9875 §2
  if (groups) details.groups = groups;
  return details;
}

/** RFC 9110 §13.1.2, §13.1.3: an entity tag where there is one, else the date. */
function addConditions(headers: Headers, context: LoadContext): void {
  const validator = context.held?.validator;
  if (validator?.etag) headers.set("if-none-match", validator.etag);
  else if (validator?.lastModified) headers.set("if-modified-since", validator.lastModified);
}

function unwrapped(unwrap: (body: any) => unknown, body: unknown, response: Response): unknown {
  try {
    const value = unwrap(body);
    if (value !== undefined) return value;
  } catch (cause) {
    throw misfit(response, body, "unwrap threw", cause);
  }
  throw misfit(response, body, "unwrap found nothing");
}

function misfit(response: Response, body: unknown, what: string, cause?: unknown): Failure {
  const message = `The body from ${place(response)} has another shape than expected: ${what}, and the body is ${outline(body)}.`;
  return new Failure("shape", message, { status: response.status, retryable: false, ...(cause ? { cause } : {}) });
}

/** A body by its kind and member names. */
function outline(body: unknown): string {
  if (Array.isArray(body)) return `an array of ${body.length}`;
  if (typeof body !== "object" || body === null) return body === null ? "null" : `a ${typeof body}`;
  const names = Object.keys(body);
  return names.length === 0
    ? "an object without members"
    : `an object with the members ${names.slice(0, 12).join(", ")}${names.length > 12 ? ", …" : ""}`;
}

function resolved(settings: Settings, definition: Definition, params: unknown): URL {
  const given = typeof definition.url === "function" ? definition.url(params) : definition.url;
  const base = settings.base ?? pageAddress();
  if (URL.canParse(String(given), base)) return new URL(given, base);
  throw new CistaError(
    "base",
    `The url of the source "${definition.name}" is ${JSON.stringify(String(given))}: without a page there is nothing to resolve it against. Give origin({ base }) the server's address.`,
  );
}

async function headersFor(settings: Settings, definition: Definition, url: URL): Promise<Headers> {
  const common =
    typeof settings.headers === "function" ? await settings.headers({ url, method: "GET" }) : settings.headers;
  const headers = new Headers(common);
  new Headers(definition.headers).forEach((value, name) => {
    headers.set(name, value);
  });
  return headers;
}
