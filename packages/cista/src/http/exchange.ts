import { Failure, type LoadContext } from "../core/index.js";
import { isOwnOrigin, place } from "./address.js";
import type { OriginOptions } from "./contract.js";
import type { Times } from "./freshness.js";

/** An origin's options, its base as a URL. */
export type Server = Omit<OriginOptions, "base"> & { readonly base: URL | undefined };

/** A request that was answered. */
export interface Exchange extends Times {
  readonly url: URL;
  readonly response: Response;
  /** Bodies longer than this many bytes are refused. */
  readonly maxBody: number;
}

/** What is asked, beside the server's own headers. */
export interface Ask {
  readonly url: URL;
  readonly method?: string;
  readonly headers?: HeadersInit | undefined;
  readonly body?: BodyInit | undefined;
  /** What is held already, with which the request is made conditional where that costs no preflight. */
  readonly held?: { readonly etag?: string; readonly lastModified?: string } | undefined;
}

/** One request. @throws Failure kind "network" where no answer came */
export async function exchange(
  server: Server,
  ask: Ask,
  context: Pick<LoadContext, "signal"> & { readonly mode?: LoadContext["mode"] },
): Promise<Exchange> {
  const { url, method = "GET" } = ask;
  const common = typeof server.headers === "function" ? await server.headers({ url, method }) : server.headers;
  const headers = new Headers(common);
  new Headers(ask.headers).forEach((value, name) => {
    headers.set(name, value);
  });
  const own = isOwnOrigin(url);
  // RFC 9110 §13.1.2, §13.1.3: an entity tag where there is one, else the date.
  if (own && ask.held?.etag) headers.set("if-none-match", ask.held.etag);
  else if (own && ask.held?.lastModified) headers.set("if-modified-since", ask.held.lastModified);
  const requestedAt = Date.now();
  const response = await (server.fetch ?? globalThis.fetch)(url, {
    method,
    headers,
    signal: context.signal,
    ...(ask.body === undefined ? {} : { body: ask.body }),
    ...(server.credentials ? { credentials: server.credentials } : {}),
    // Here Cista is the cache, and its 304s are to be seen; across origins the browser's own does the asking,
    // because a condition of ours would cost a preflight (Fetch, CORS-safelisted request headers).
    cache: own ? "no-store" : (context.mode ?? "no-store"),
  }).catch((cause) => {
    throw context.signal.aborted || !(cause instanceof TypeError) ? cause : noAnswer(url, own, cause);
  });
  return { url, response, requestedAt, receivedAt: Date.now(), maxBody: server.maxBody ?? 16 * 2 ** 20 };
}

/** `fetch` tells a program no more than that: in a page a refusal by CORS looks like a server that is not there. */
function noAnswer(url: URL, own: boolean, cause: TypeError): Failure {
  const inner = cause.cause as { code?: string; message?: string } | undefined;
  const why = inner?.code ?? inner?.message ?? cause.message;
  const cors = own
    ? ""
    : " It may not be reachable, or not let this page read it (CORS): the browser's console says which.";
  return new Failure("network", `No answer came from ${place(url)}: ${why}.${cors}`, { cause });
}
