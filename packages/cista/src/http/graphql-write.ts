import { type Known, type SendContext, type Write, write } from "../core/index.js";
import { resolved } from "./address.js";
import { unwrapped } from "./body.js";
import type { GraphqlWriteDefinition, Origin, TypedDocument } from "./contract.js";
import { refuseHeaderFunction, refuseNoUrl, serverOf } from "./definition.js";
import { documentText, operate } from "./graphql.js";
import { namedGroups } from "./invalidate.js";
import { refuseNoKey, sendsKey } from "./send.js";

/**
 * A GraphQL mutation of an origin as a write, over HTTP by POST. Errors are a `Failure` of kind "graphql" with `errors`. All
 * mutations go to one URL, so nothing is invalidated by that: name the entries that a mutation changes by `invalidates`, or by the
 * server's Cache-Group-Invalidation (RFC 9875 §3).
 * @throws CistaError code "invalid-graphql-document" for one that is no GraphQL text; code "missing-url";
 * "missing-idempotency-key" for a kept one that could not bear an Idempotency-Key
 * @example
 * const rename = graphqlTo<{ id: string; name: string }, Route>(api, {
 *   name: "rename",
 *   url: "/graphql",
 *   document: "mutation ($id: ID!, $name: String!) { rename(id: $id, name: $name) { id name } }",
 *   unwrap: ({ rename }) => rename,
 *   invalidates: ({ id }) => [{ source: route, params: { id } }],
 * });
 */
export function graphqlTo<R, V extends object>(
  origin: Origin,
  definition: Omit<GraphqlWriteDefinition<V, R>, "document" | "variables" | "unwrap"> & {
    document: TypedDocument<R, V>;
    unwrap?(data: any): never; // as of `graphqlFrom`
  },
): Write<V, R>;
export function graphqlTo<I = void, R = unknown>(
  origin: Origin,
  definition: GraphqlWriteDefinition<I, R>,
): Write<I, Known<R>>;
export function graphqlTo(origin: Origin, definition: any): Write<any, any> {
  const server = serverOf(origin);
  refuseNoUrl(definition);
  refuseNoKey(server, definition);
  refuseHeaderFunction(definition);
  documentText(definition); // refuses what cannot be where it was written
  const { url, document, variables, unwrap, idempotencyKey, ...rest } = definition as GraphqlWriteDefinition<any, any>;
  return write<any, any>({
    ...(server.user ? { user: (context: unknown) => server.askers.userOfWrite(context) } : {}),
    ...rest,
    send: async (input: unknown, context: SendContext) => {
      const sends = sendsKey(definition, resolved(url, server.base, definition.name));
      const key: Record<string, string> = sends ? { "idempotency-key": JSON.stringify(context.idempotencyKey) } : {};
      const { received, data, failure } = await operate(server, definition, input, context, key);
      if (failure) throw failure;
      for (const selector of namedGroups(received.response, received.landed)) context.invalidate(selector);
      return unwrap ? unwrapped(unwrap, data, received) : data;
    },
  });
}
