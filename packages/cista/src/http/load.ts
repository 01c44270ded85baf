import { type Answer, answer, Failure, type LoadContext, missing, unchanged } from "../core/index.js";
import { resolved, withoutQuery } from "./address.js";
import { bodyJson, countedResponse, passBody, unwrapped } from "./body.js";
import type { HttpSourceDefinition, Url } from "./contract.js";
import { detailsOf, isNotModified, sameEntity } from "./details.js";
import { type Ask, type Exchange, exchange, type Server } from "./exchange.js";
import { httpFailure } from "./problem.js";

/** One GET, and what its response means. */
export async function load(
  server: Server,
  definition: HttpSourceDefinition<any, unknown>,
  params: unknown,
  context: LoadContext,
): Promise<Answer<unknown>> {
  const held = context.held?.validator;
  const ask = askOf(server, definition, params);
  const received = await exchangeUnlessOther(server, { ...ask, held }, context);
  const { response } = received;
  const details = detailsOf(received, definition);
  if (context.held && isNotModified(received)) return unchanged(details);
  if (isMissing(response)) {
    await response.body?.cancel();
    return missing(details);
  }
  await refuseErrors(received);
  if (context.held && sameEntity(held?.etag, response.headers.get("etag"))) {
    // Unchanged, though nobody could say so by a 304.
    await passBody(received);
    return unchanged(details);
  }
  const body = await (definition.parse ? definition.parse(countedResponse(received)) : bodyJson(received));
  return answer(definition.unwrap ? unwrapped(definition.unwrap, body, received) : body, details);
}

/** A 304 about another representation than the held one tells nothing (RFC 9111 §4.3.4): the request is made again, without a condition. */
export async function exchangeUnlessOther(server: Server, ask: Ask, context: LoadContext): Promise<Exchange> {
  const received = await exchange(server, ask, context);
  if (received.response.status !== 304 || !received.condition || isNotModified(received)) return received;
  return exchange(server, { ...ask, held: undefined }, context);
}

/** What every request of a source or write says. */
export function askOf(
  server: Server,
  definition: { name: string; url: Url<any>; headers?: HeadersInit },
  params: unknown,
): Ask {
  const { name, headers, url } = definition;
  const named = typeof url === "function" ? undefined : url;
  return { url: urlFor(server, definition, params), name, named, headers };
}

/** 404 and 410 are no errors: they say that there is no such thing. */
export function isMissing({ status }: Response): boolean {
  return status === 404 || status === 410;
}

/** @throws Failure kind "http" for what is neither an answer nor known to be missing */
export async function refuseErrors(received: Exchange): Promise<void> {
  const { response, url } = received;
  if (response.status === 304 || response.status === 206) {
    // RFC 9110 §15.3.7, §15.4.5: answers to questions that were not asked.
    const what =
      response.status === 304 ? "not modified, though nothing was held" : "a part, though the whole was received for";
    throw new Failure("http", `${withoutQuery(url)} answered ${response.status} (${what}).`, {
      status: response.status,
    });
  }
  if (!response.ok) throw await httpFailure(received);
}

export function urlFor(server: Server, { url, name }: { url: Url<any>; name: string }, params: unknown): URL {
  return resolved(typeof url === "function" ? url(params) : url, server.base, name);
}
