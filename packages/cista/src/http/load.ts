import { type Answer, answer, Failure, type LoadContext, missing, unchanged } from "../core/index.js";
import { resolved, withoutQuery } from "./address.js";
import { bodyJson, countedResponse, passBody, unwrapped } from "./body.js";
import type { HeaderFields, HeadersOf, HttpSourceDefinition, SourceOptions, Url } from "./contract.js";
import { detailsOf, isNotModified, sameEntity } from "./details.js";
import { conditionOf, exchange, maxBodyOf } from "./exchange.js";
import { payloadOf } from "./payload.js";
import { httpFailure } from "./problem.js";
import type { Ask, Exchange, Server } from "./server.js";

/** One GET, and the answer that its response is. */
export async function load(
  server: Server,
  definition: HttpSourceDefinition<any, unknown>,
  params: unknown,
  context: LoadContext,
): Promise<Answer<unknown>> {
  const { method } = definition;
  const ask = { ...askOf(server, definition, params), method };
  if (method === undefined || method === "GET") {
    const held = context.held?.validator;
    return answerTo(await exchangeUnlessOther(server, { ...ask, held }, context), definition, context.held?.policy);
  }
  // No standard defines the validator of an answer to a POST; QUERY goes without one too.
  const sent = payloadOf(definition.body ? await definition.body(params) : params, definition.name);
  return answerTo(await exchange(server, { ...ask, ...sent }, context), definition, undefined);
}

/** How a response becomes a value. */
type Reading = Pick<HttpSourceDefinition<any, unknown>, "parse" | "unwrap"> & SourceOptions;

async function answerTo(
  received: Exchange,
  definition: Reading,
  policy: NonNullable<LoadContext["held"]>["policy"],
): Promise<Answer<unknown>> {
  const { response, held } = received;
  const details = detailsOf(received, definition, policy);
  if (isNotModified(received)) return unchanged(details);
  if (isMissing(response)) {
    await response.body?.cancel();
    return missing(details);
  }
  await refuseErrors(received);
  if (sameEntity(held?.etag, response.headers.get("etag"))) {
    // Unchanged, though the server could not say so by a 304.
    await passBody(received);
    return unchanged(details);
  }
  refuseNoContent(received, definition);
  const body = await (definition.parse ? definition.parse(countedResponse(received)) : bodyJson(received));
  return answer(definition.unwrap ? unwrapped(definition.unwrap, body, received) : body, details);
}

/** RFC 9110 §15.3.5. @throws Failure kind "no-value" for no content, where the definition gives that no meaning */
function refuseNoContent({ response, url }: Exchange, { parse, unwrap, check }: Reading): void {
  if (response.status !== 204 || parse || unwrap || check) return;
  const message = `${withoutQuery(url)} answered 204 (no content). Say by unwrap what value that is: it is given null.`;
  throw new Failure("no-value", message, { status: 204, retryable: false });
}

/** The options of `answerOf`, beside the response. */
export interface AnswerOptions<T, B = any> extends Partial<Pick<LoadContext, "held" | "now">> {
  /** From the response to the body. Default: JSON. */
  parse?(response: Response): Promise<B>;
  /** From the parsed body to the value. */
  unwrap?(body: B): T;
  /** See `Policy.heuristic`. */
  heuristic?: boolean;
  /** Refuse bodies longer than this many bytes. Default 16 MiB. */
  maxBody?: number;
}

/**
 * A response that a program has fetched itself, as the answer of its load: its freshness, validator and groups, as `origin`
 * reads them; 304 is unchanged, 404 and 410 are missing.
 * @param options a load's own context will do: it has the held value's details and the clock
 * @throws Failure kind "http" for any other status that is no success, "shape" for a body of another form than expected
 * @example load: async ({ id }: { id: string }, context) => answerOf<Hut>(await fetch(`/api/huts/${id}`, { signal: context.signal }), context)
 */
export async function answerOf<T = unknown>(response: Response, options: AnswerOptions<T> = {}): Promise<Answer<T>> {
  const { held: { validator, policy } = {}, now = Date.now, parse, unwrap, heuristic = false } = options;
  const url = new URL(URL.canParse(response.url) ? response.url : "about:blank");
  const at = now();
  const received: Exchange = {
    url,
    landed: url,
    response,
    condition: conditionOf(validator),
    held: validator,
    varies: undefined,
    sent: new Headers(), // what the program's own request said is not known
    isOneUsers: false,
    requestedAt: at,
    receivedAt: at,
    maxBody: maxBodyOf(options),
  };
  const definition = { name: withoutQuery(url), heuristic, ...(parse ? { parse } : {}), ...(unwrap ? { unwrap } : {}) };
  return (await answerTo(received, definition, policy)) as Answer<T>;
}

/** A 304 about another representation than the held one tells nothing (RFC 9111 §4.3.4): the request is made again, without a condition. */
export async function exchangeUnlessOther(server: Server, ask: Ask, context: LoadContext): Promise<Exchange> {
  const received = await exchange(server, ask, context);
  if (received.response.status !== 304 || !received.condition || isNotModified(received)) return received;
  return exchange(server, { ...ask, held: undefined }, context);
}

/** The members that every request of a source or write has. */
export function askOf(
  server: Server,
  definition: { name: string; url: Url<any>; headers?: HeadersOf<any> },
  params: unknown,
): Ask {
  const { name, headers, url } = definition;
  const named = typeof url === "function" ? undefined : url;
  return { url: urlFor(server, definition, params), name, named, headers: headersFor(headers, params) };
}

export function headersFor(headers: HeadersOf<any> | undefined, params: unknown): HeaderFields | undefined {
  return typeof headers === "function" ? headers(params) : headers;
}

/** 404 and 410 are no errors: they say that there is no such thing. */
export function isMissing({ status }: Response): boolean {
  return status === 404 || status === 410;
}

/**
 * A 304 where nothing was held, and a part (206), answer questions that were not asked (RFC 9110 §15.4.5, §15.3.7).
 * @throws Failure kind "http" for a response that is neither an answer nor known to be missing
 */
export async function refuseErrors(received: Exchange): Promise<void> {
  const { ok, status } = received.response;
  if (!ok || status === 206) throw await httpFailure(received);
}

export function urlFor(server: Server, { url, name }: { url: Url<any>; name: string }, params: unknown): URL {
  return resolved(typeof url === "function" ? url(params) : url, server.base, name);
}
