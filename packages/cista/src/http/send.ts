import type { SendContext } from "../core/index.js";
import { bodyJson, unwrapped } from "./body.js";
import type { HttpWriteDefinition } from "./contract.js";
import { exchange, type Server } from "./exchange.js";
import { selectorAfter } from "./invalidate.js";
import { urlFor } from "./load.js";
import { httpFailure } from "./problem.js";

/** One unsafe request, and what its answer makes untrustworthy. */
export async function send(
  server: Server,
  definition: HttpWriteDefinition<any, unknown>,
  input: unknown,
  context: SendContext,
): Promise<unknown> {
  const { method } = definition;
  const url = urlFor(server, definition, input);
  const given = definition.body ? definition.body(input) : method === "DELETE" ? undefined : input;
  const plain = given === undefined || isBody(given);
  const headers = new Headers(plain ? {} : { "content-type": "application/json" });
  new Headers(definition.headers).forEach((value, name) => {
    headers.set(name, value);
  });
  // The HTTP working group's draft: a structured string (RFC 9651 §3.3.3).
  headers.set("idempotency-key", JSON.stringify(context.idempotencyKey));
  const body = plain ? (given as BodyInit | undefined) : JSON.stringify(given);
  const asked = await exchange(server, { url, method, headers, body }, context);
  const { response } = asked;
  if (!response.ok) throw await httpFailure(asked);
  const selector = selectorAfter(method, response, url);
  if (selector) context.invalidate(selector);
  const isJson = /\bjson\b/i.test(response.headers.get("content-type") ?? "");
  if (!isJson && !definition.unwrap) {
    await response.body?.cancel();
    return undefined; // it has worked, and has nothing to tell
  }
  const result = await bodyJson(asked);
  return definition.unwrap ? unwrapped(definition.unwrap, result, asked) : result;
}

/** What `fetch` sends as it is. */
function isBody(value: unknown): boolean {
  return (
    typeof value === "string" ||
    value instanceof FormData ||
    value instanceof URLSearchParams ||
    value instanceof Blob ||
    value instanceof ArrayBuffer ||
    ArrayBuffer.isView(value)
  );
}
