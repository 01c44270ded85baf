import { type Known, type Write, write } from "../core/index.js";
import type { HttpWriteDefinition, Origin } from "./contract.js";
import { refuseNoUrl, serverOf } from "./definition.js";
import { refuseNoKey, send } from "./send.js";

/**
 * A write of an origin: POST, PUT, PATCH, DELETE. A refusal is a `Failure` of kind "http" with its problem (RFC 9457). What the
 * answer names is invalidated: its URL, `Location`, `Content-Location` (RFC 9111 §4.4) and the groups of
 * `Cache-Group-Invalidation` (RFC 9875 §3), of the same origin.
 * @throws CistaError code "missing-url"; "missing-idempotency-key" for a kept one that could not bear an Idempotency-Key
 * @example
 * const book = writeTo(api, { name: "book", method: "POST", url: "/api/basket" });
 * await cache.run(book, { hut: "h-07", nights: 2 });
 */
export function writeTo<I = void, R = unknown>(
  origin: Origin,
  definition: HttpWriteDefinition<I, R>,
): Write<I, Known<R>> {
  const server = serverOf(origin);
  refuseNoUrl(definition);
  refuseNoKey(server, definition);
  const { method, url, body, headers, parse, unwrap, followRedirects, idempotencyKey, keepalive, sendBy, ...rest } =
    definition;
  return write<any, any>({
    ...(server.user ? { user: (context: unknown) => server.askers.userOfWrite(context) } : {}),
    ...rest,
    send: (input, context) => send(server, definition, input, context),
  });
}
