import type { Context, Next } from "hono";
import { problem } from "./responses.js";

/** An answer that was given once. */
export interface Given {
  readonly request: string;
  readonly status: number;
  readonly body: string;
  readonly headers: Record<string, string>;
}

/** Answers that are remembered; the oldest goes first. */
const mostRemembered = 1000;

/** The same Idempotency-Key (the HTTP working group's draft) with the same request has the same answer, and no effect again. */
export function onceForEachKey({ given }: { readonly given: Map<string, Given> }) {
  return async (c: Context, next: Next) => {
    const key = c.req.header("idempotency-key");
    if (key === undefined || c.req.method === "GET") return next();
    const request = `${c.req.method} ${c.req.path} ${await c.req.text()}`;
    const before = given.get(key);
    if (before && before.request !== request) {
      return problem(c, 422, "Another request", "This Idempotency-Key was used for another request.");
    }
    if (before) return c.body(before.body, before.status as 201, before.headers);
    await next();
    const body = await c.res.clone().text();
    for (const [oldest] of given) if (given.size >= mostRemembered) given.delete(oldest);
    given.set(key, { request, status: c.res.status, body, headers: Object.fromEntries(c.res.headers) });
    return undefined;
  };
}
