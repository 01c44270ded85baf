import { createHash } from "node:crypto";
import { type Context, Hono } from "hono";
import type { World } from "./world.js";

/** The network's interface: `/api/…`. What it answers and how long that may be used is written in docs/demo-world.md. */
export function api(world: World): Hono {
  const app = new Hono();

  app.get("/huts", (c) => {
    const huts = world.hutsLike(c.req.query("region"), c.req.query("q"));
    return answered(
      c,
      { count: huts.length, huts },
      {
        "cache-control": "max-age=30, stale-while-revalidate=300",
        etag: "weak",
        "cache-groups": '"huts"',
      },
    );
  });

  app.get("/huts/:id", (c) => {
    const hut = world.huts.get(c.req.param("id"));
    if (!hut) return noHut(c);
    return answered(c, hut, {
      "cache-control": "max-age=60",
      etag: "strong",
      "cache-groups": `"huts", "hut-${hut.id}"`,
    });
  });

  app.get("/huts/:id/bunks", (c) => {
    const hut = world.huts.get(c.req.param("id"));
    if (!hut) return noHut(c);
    const night = c.req.query("night") ?? "";
    if (!/^\d{4}-\d\d-\d\d$/.test(night)) {
      return problem(c, 400, "No such night", `night is an ISO date such as 2026-11-27, but it is "${night}".`);
    }
    return answered(c, world.bunks(hut, night), {
      "cache-control": "max-age=5, stale-while-revalidate=0, stale-if-error=0",
      "cache-groups": `"hut-${hut.id}"`,
    });
  });

  app.get("/basket", (c) => answered(c, { nights: world.basket }, { "cache-control": "private, no-store" }));

  return app;
}

type Fields = Record<string, string> & { etag?: "weak" | "strong" };

/** JSON with its caching headers; 304 where the request's validator still fits (RFC 9110 §13.1.2, compared weakly). */
function answered(c: Context, body: unknown, { etag, ...fields }: Fields): Response {
  const text = JSON.stringify(body);
  const headers: Record<string, string> = { ...fields, "content-type": "application/json" };
  if (etag) {
    const opaque = `"${createHash("sha256").update(text).digest("base64url").slice(0, 16)}"`;
    headers.etag = etag === "weak" ? `W/${opaque}` : opaque;
    const asked = (c.req.header("if-none-match") ?? "").split(",").map((tag) => tag.trim().replace(/^W\//, ""));
    if (asked.includes(opaque) || asked.includes("*")) return c.body(null, 304, headers);
  }
  return c.body(text, 200, headers);
}

function noHut(c: Context): Response {
  return problem(c, 404, "No such hut", `There is no hut ${c.req.param("id")} in the network.`, {
    "cache-control": "max-age=60",
  });
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
