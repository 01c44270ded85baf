import type { Duration, SharedUse } from "../core/index.js";
import { deltaSeconds, parseCacheControl } from "./cache-control.js";

/**
 * The use that a shared cache may make of a response (RFC 9111 §3, §3.5); undefined where it may use it as any cache
 * may. Where two things contradict each other, the stricter one counts. A cookie, of the request or of the response, counts
 * as a user's own: that is prudence, and not the standard's word.
 * @param stated undefined where no lifetime was stated
 */
export function sharedUseOf(
  { headers }: Pick<Response, "headers">,
  { isOneUsers }: { readonly isOneUsers: boolean },
  stated: Duration | undefined,
): SharedUse | undefined {
  const directives = parseCacheControl(headers.get("cache-control"));
  // §4.1: another request's values of the fields that it varies by are not known. Compression is undone by `fetch`.
  const vary = (headers.get("vary") ?? "").split(",").map((name) => name.trim().toLowerCase());
  if (vary.some((name) => name !== "" && name !== "accept-encoding")) return { for: "none" };
  if (directives.has("private")) return { for: "user" }; // §5.2.2.7; the form with field names may be read as the plain one
  const lifetime = directives.has("s-maxage") ? deltaSeconds(directives.get("s-maxage")) : undefined;
  const isOpen = directives.has("public") || lifetime !== undefined;
  if (isOneUsers && !isOpen && !directives.has("must-revalidate")) return { for: "user" }; // §3.5
  if ((headers.has("set-cookie") || stated === undefined) && !isOpen) return { for: "user" };
  // §5.2.2.10: one that cannot be read makes it stale; it implies proxy-revalidate (§5.2.2.8). §5.2.2.4: no-cache is stricter.
  const maxAge = directives.has("no-cache") ? 0 : (lifetime ?? 0) * 1000;
  if (directives.has("s-maxage")) return { for: "all", maxAge, mustRevalidate: true };
  return directives.has("proxy-revalidate") ? { for: "all", mustRevalidate: true } : undefined;
}

/** RFC 9111 §3.5, §5.2.2.7: whether a response says that any user may have it, or only the one who has asked. */
export function statedUse(headers: Headers): "all" | "user" | undefined {
  const directives = parseCacheControl(headers.get("cache-control"));
  if (directives.has("private") || directives.has("no-store")) return "user";
  return directives.has("public") || deltaSeconds(directives.get("s-maxage")) !== undefined ? "all" : undefined;
}
