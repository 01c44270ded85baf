import {
  type Answer,
  answer,
  CistaError,
  Failure,
  type Known,
  type LoadContext,
  missing,
  type OutputOf,
  type Source,
  type StandardSchema,
} from "../core/index.js";
import { resolved, withoutQuery } from "./address.js";
import { bodyJson, tidy, unwrapped } from "./body.js";
import type { GraphqlDefinition, Origin, TypedDocument } from "./contract.js";
import { refuseHeaderFunction, serverOf, sourceOf } from "./definition.js";
import { detailsOf } from "./details.js";
import { exchange } from "./exchange.js";
import { httpFailure } from "./problem.js";
import type { Exchange, Server } from "./server.js";

/**
 * A GraphQL query of an origin, over HTTP by POST. Errors without data, or not allowed beside it, are a `Failure` of kind
 * "graphql" with `errors`.
 * @throws CistaError code "invalid-graphql-document" for one that is no GraphQL text; code "missing-url", "invalid-headers"
 * @example
 * const route = graphqlFrom<{ id: string }, Route>(api, {
 *   name: "route",
 *   url: "/graphql",
 *   document: "query ($id: ID!) { route(id: $id) { name } }",
 *   unwrap: ({ route }) => route,
 * });
 */
export function graphqlFrom<T, V extends object>(
  origin: Origin,
  definition: Omit<GraphqlDefinition<V, T>, "document" | "variables" | "unwrap"> & {
    document: TypedDocument<T, V>;
    unwrap?(data: any): never; // one that is written is of another overload, and is to know already that its data is `any`
  },
): Source<V, T>;
export function graphqlFrom<P = void, S extends StandardSchema<any, any> = StandardSchema<any, any>>(
  origin: Origin,
  definition: Omit<GraphqlDefinition<P, Known<OutputOf<S>>>, "check" | "unwrap"> & {
    check: S;
    unwrap?(data: any): unknown;
  },
): Source<P, Known<OutputOf<S>>>;
export function graphqlFrom<P = void, T = unknown>(
  origin: Origin,
  definition: GraphqlDefinition<P, T>,
): Source<P, Known<T>>;
export function graphqlFrom(origin: Origin, definition: any): Source<any, any> {
  const server = serverOf(origin);
  refuseHeaderFunction(definition);
  documentText(definition); // refuses what cannot be where it was written
  return sourceOf(server, definition, { load: (params, context) => query(server, definition, params, context) });
}

interface Result {
  readonly data?: unknown;
  readonly errors?: readonly unknown[];
}

/** One query, as GraphQL over HTTP has it. */
async function query(
  server: Server,
  definition: GraphqlDefinition<any, any>,
  params: unknown,
  context: LoadContext,
): Promise<Answer<unknown>> {
  const { partial, nullIsMissing, unwrap } = definition;
  const { received, data, failure } = await operate(server, definition, params, context);
  if (failure && (data == null || !partial)) throw failure;
  if (nullIsMissing && !failure && isNullRoot(data)) return missing(detailsOf(received, definition));
  const value = unwrap ? unwrapped(unwrap, data, received) : data;
  return answer(value, { ...detailsOf(received, definition), ...(failure ? { failure } : {}) });
}

function isNullRoot(data: unknown): boolean {
  if (typeof data !== "object" || data === null) return data === null;
  return Object.values(data)[0] === null;
}

/** The members that a query and a mutation have in common. */
type Operation = Pick<GraphqlDefinition<any, any>, "name" | "url" | "document" | "variables">;

/** One operation by POST. It passes by the caches on the way, and carries no condition: no standard defines its validator. */
export async function operate(
  server: Server,
  operation: Operation,
  params: unknown,
  context: Parameters<typeof exchange>[2],
  more: Readonly<Record<string, string>> = {},
): Promise<{ received: Exchange; data: unknown; failure: Failure | undefined }> {
  const { name, url: named, variables } = operation;
  const url = resolved(named, server.base, name);
  const fields = {
    accept: "application/graphql-response+json, application/json;q=0.9",
    "content-type": "application/json",
    ...more,
  };
  const body = JSON.stringify({ query: documentText(operation), variables: variables ? variables(params) : params });
  const received = await exchange(server, { url, name, named, method: "POST", fields, body }, context);
  const { response } = received;
  const type = response.headers.get("content-type") ?? "";
  // With its own media type a request that failed still has a GraphQL body; with plain JSON only a 2xx surely has one.
  if (!response.ok && !/^application\/graphql-response\+json\b/i.test(type)) throw await httpFailure(received);
  const { data, errors = [] } = resultIn(await bodyJson(received), withoutQuery(url));
  const failure = errors.length > 0 ? failureOf(errors, response.status, withoutQuery(url)) : undefined;
  return { received, data, failure };
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

/** An operation's GraphQL text. @throws CistaError code "invalid-graphql-document" for one that is not, and does not become, text */
export function documentText({ name, document }: Pick<Operation, "name" | "document">): string {
  const { loc } = document as { loc?: { source?: { body?: string } } }; // a parsed document remembers its text
  const text = loc?.source?.body ?? String(document);
  if (/[{]/.test(text)) return text;
  throw new CistaError(
    "invalid-graphql-document",
    DEVELOPMENT &&
      `The document of "${name}" is GraphQL text, or an object whose toString gives it, but it is ${JSON.stringify(text)}.`,
  );
}
