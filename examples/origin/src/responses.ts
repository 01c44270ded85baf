import { createHash } from "node:crypto";
import type { Context } from "hono";

/** Header fields; `etag` says only of which strength, the tag itself is made of the body. */
export type Fields = Record<string, string> & { etag?: "weak" | "strong" };

/** JSON with its caching headers; 304 where the request's validator still fits (RFC 9110 §13.1.2, §13.1.3). */
export function answered(c: Context, body: unknown, { etag, ...fields }: Fields): Response {
  const text = JSON.stringify(body);
  const headers: Record<string, string> = { ...fields, "content-type": "application/json" };
  const asked = c.req.header("if-none-match");
  const since = Date.parse(c.req.header("if-modified-since") ?? "");
  if (etag) {
    const opaque = `"${createHash("sha256").update(text).digest("base64url").slice(0, 16)}"`;
    headers.etag = etag === "weak" ? `W/${opaque}` : opaque;
    const tags = (asked ?? "").split(",").map((tag) => tag.trim().replace(/^W\//, ""));
    if (tags.includes(opaque) || tags.includes("*")) return c.body(null, 304, headers);
  } else if (asked === undefined && since >= Date.parse(fields["last-modified"] ?? "")) {
    return c.body(null, 304, headers);
  }
  return c.body(text, 200, headers);
}

/** RFC 9457. */
export function problem(
  c: Context,
  status: number,
  title: string,
  detail: string,
  headers: Record<string, string> = {},
): Response {
  const body = JSON.stringify({ type: "about:blank", title, status, detail });
  return c.body(body, status as 400, { ...headers, "content-type": "application/problem+json" });
}

/** The request's body; undefined where it is not JSON. */
export async function jsonOf<T>(c: Context): Promise<T | undefined> {
  return c.req.json<T>().catch(() => undefined);
}
