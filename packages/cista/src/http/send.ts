import { CistaError, type SendContext } from "../core/index.js";
import { isOwnOrigin, resolved, urlGroup } from "./address.js";
import type { Target } from "./asker.js";
import { bodyText, countedResponse, jsonIn, unwrapped } from "./body.js";
import type { HttpWriteDefinition } from "./contract.js";
import { exchange } from "./exchange.js";
import { selectorsAfter } from "./invalidate.js";
import { askOf } from "./load.js";
import { payloadOf } from "./payload.js";
import { httpFailure } from "./problem.js";
import type { Exchange, Server } from "./server.js";

/** One unsafe request, and the entries that its answer invalidates. */
export async function send(
  server: Server,
  definition: HttpWriteDefinition<any, unknown>,
  input: unknown,
  context: SendContext,
): Promise<unknown> {
  const { method, name } = definition;
  const { url, ...ask } = askOf(server, definition, input);
  const given = definition.body ? await definition.body(input) : method === "DELETE" ? undefined : input;
  const payload = payloadOf(given, name);
  const { body } = payload;
  // The HTTP working group's draft: a structured string (RFC 9651 §3.3.3).
  const key = sendsKey(definition, url) ? { "idempotency-key": JSON.stringify(context.idempotencyKey) } : {};
  const fields = { ...payload.fields, ...key };
  const { followRedirects: followAnywhere, keepalive } = definition;
  const fetch = definition.sendBy?.(input);
  const request = { ...ask, url, method, fields, body, followAnywhere, keepalive, fetch };
  context.invalidate({ group: urlGroup(url) });
  const received = await exchange(server, request, context);
  const { response, landed } = received;
  if (!response.ok) throw await httpFailure(received);
  // What the answer names is of the origin that gave it.
  for (const selector of selectorsAfter(method, response, landed)) context.invalidate(selector);
  const result = await resultOf(received, definition);
  if (hasUserLeft(server, received.varies, { url, method, context: context.context })) context.userLeft?.();
  return result;
}

/** Rule F9: another token is there since the request left. While one is renewed, the new one tells of nobody else. */
function hasUserLeft({ askers, renewals }: Server, varies: Exchange["varies"], target: Target): boolean {
  const { authorization } = varies ?? {};
  if (!authorization || renewals?.isUnderWay(target.context)) return false;
  try {
    return askers.fits({ authorization }, target, undefined) === false;
  } catch {
    return false; // the write has worked, whatever `headers` does now
  }
}

async function resultOf(received: Exchange, { parse, unwrap }: HttpWriteDefinition<any, unknown>): Promise<unknown> {
  const { response } = received;
  if (parse) {
    const result = await parse(countedResponse(received));
    return unwrap ? unwrapped(unwrap, result, received) : result;
  }
  const isJson = /\bjson\b/i.test(response.headers.get("content-type") ?? "");
  if (!isJson && !unwrap) {
    await response.body?.cancel();
    return undefined; // it has worked, and has nothing to tell
  }
  const text = await bodyText(received);
  if (text === "" && !unwrap) return undefined;
  const result = jsonIn(text, received);
  return unwrap ? unwrapped(unwrap, result, received) : result;
}

/** Another origin has to allow the field, so there it goes only where it is asked for; with a kept write always (rule O3). */
export function sendsKey(
  { idempotencyKey, retry = false, kept }: Pick<HttpWriteDefinition<any, unknown>, "idempotencyKey" | "retry" | "kept">,
  url: URL,
): boolean {
  return kept || (idempotencyKey ?? (retry !== false && isOwnOrigin(url)));
}

/**
 * Rule O3: a kept write is tried by several pages, and the server has to be able to tell that it is one.
 * @throws CistaError code "missing-idempotency-key" for one that could not bear an Idempotency-Key
 */
export function refuseNoKey(
  server: Server,
  { name, url, kept, idempotencyKey }: Pick<HttpWriteDefinition<any, any>, "name" | "url" | "kept" | "idempotencyKey">,
): void {
  if (!kept || idempotencyKey === true) return;
  const fixed = typeof url === "function" ? server.base : resolved(url, server.base, name);
  if (idempotencyKey === undefined && (!fixed || isOwnOrigin(fixed))) return;
  throw new CistaError(
    "missing-idempotency-key",
    DEVELOPMENT &&
      `The write "${name}" is kept, so it may be sent several times, and needs an Idempotency-Key. ${idempotencyKey === false ? "Leave idempotencyKey out, or write idempotencyKey: true." : `Its server is ${fixed?.origin}: where that allows the field Idempotency-Key (CORS, Access-Control-Allow-Headers), write idempotencyKey: true.`}`,
  );
}
