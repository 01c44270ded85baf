import { type Answer, answer, Failure, type LoadContext } from "../core/index.js";
import { resolved, withoutQuery } from "./address.js";
import { bodyJson, tidy, unwrapped } from "./body.js";
import type { GraphqlDefinition } from "./contract.js";
import { detailsOf } from "./details.js";
import { documentText } from "./document.js";
import { exchange, type Server } from "./exchange.js";
import { httpFailure } from "./problem.js";

interface Result {
  readonly data?: unknown;
  readonly errors?: readonly unknown[];
}

/** One query by POST, as GraphQL over HTTP has it. */
export async function query(
  server: Server,
  definition: GraphqlDefinition<any, any>,
  params: unknown,
  context: LoadContext,
): Promise<Answer<unknown>> {
  const url = resolved(definition.url, server.base, definition.name);
  const fields = {
    accept: "application/graphql-response+json, application/json;q=0.9",
    "content-type": "application/json",
  };
  const variables = definition.variables ? definition.variables(params) : params;
  const body = JSON.stringify({ query: documentText(definition), variables });
  // A POST passes by the caches on the way; it carries no condition, since nothing says what its validator would be of.
  const ask = { url, name: definition.name, named: definition.url, method: "POST", fields, body };
  const received = await exchange(server, ask, context);
  const { response } = received;
  const type = response.headers.get("content-type") ?? "";
  // With its own media type a request that failed still has a GraphQL body; with plain JSON only a 2xx surely has one.
  if (!response.ok && !/^application\/graphql-response\+json\b/i.test(type)) throw await httpFailure(received);
  const { data, errors = [] } = resultIn(await bodyJson(received), withoutQuery(url));
  const failure = errors.length > 0 ? failureOf(errors, response.status, withoutQuery(url)) : undefined;
  if (failure && (data == null || !definition.partial)) throw failure;
  const value = definition.unwrap ? unwrapped(definition.unwrap, data, received) : data;
  return answer(value, { ...detailsOf(received, definition), ...(failure ? { failure } : {}) });
}

function resultIn(body: unknown, from: string): Result {
  const { data, errors } = (body ?? {}) as Result;
  if (data !== undefined ? errors === undefined || Array.isArray(errors) : Array.isArray(errors)) return body as Result;
  throw new Failure("shape", `A GraphQL result was expected from ${from}, but the body has neither data nor errors.`, {
    retryable: false,
  });
}

function failureOf(errors: NonNullable<Result["errors"]>, status: number, from: string): Failure {
  const { message } = (errors[0] ?? {}) as { message?: unknown };
  const said = typeof message === "string" ? tidy(message) : "without a message";
  const more = errors.length > 1 ? ` (and ${errors.length - 1} more)` : "";
  return new Failure("graphql", `${from} answered with an error: ${said}${more}`, { errors, status });
}
