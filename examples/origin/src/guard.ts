import type { Context, Next } from "hono";
import { problem } from "./responses.js";

/**
 * Keeps pages of other sites out of a server on this machine: a name that leads here from outside (DNS rebinding) is
 * refused by its Host, what a foreign page sends by `Sec-Fetch-Site` (W3C Fetch Metadata) or by its Origin.
 * @param readable other origins may read what the interface answers
 */
export function onlyFromHere(readable: boolean) {
  return async (c: Context, next: Next) => {
    const host = c.req.header("host") ?? "";
    if (!/^(127\.0\.0\.1|localhost|\[::1\])(:\d+)?$/i.test(host)) {
      return problem(c, 421, "Another host", "This server is for this machine only, by its loopback address.");
    }
    const { method, path } = c.req;
    const opensPage = c.req.header("sec-fetch-mode") === "navigate" && method === "GET" && !isInterface(path);
    const crossSite = c.req.header("sec-fetch-site") === "cross-site" && !opensPage;
    if (
      (crossSite || isForeign(c.req.header("origin"), host)) &&
      !(readable && isInterface(path) && !isControl(path))
    ) {
      return problem(c, 403, "Another site", "Pages of other sites cannot use this server.");
    }
    return next();
  };
}

function isInterface(path: string): boolean {
  return /^\/(api|graphql|origin)(\/|$)/.test(path);
}

function isControl(path: string): boolean {
  return path.startsWith("/origin");
}

/** @param origin of the page that asks, where a browser says so */
function isForeign(origin: string | undefined, host: string): boolean {
  return origin !== undefined && !(URL.canParse(origin) && new URL(origin).host === host);
}
