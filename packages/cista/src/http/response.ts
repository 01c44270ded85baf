/** One response of `fetch`, and where it leads. */
import { Failure } from "../core/index.js";
import { isOwnOrigin, withoutQuery } from "./address.js";
import type { Ask, Server } from "./server.js";

/** The target of a redirection; undefined for any other response. */
export function redirectionOf({ status, headers }: Response, from: URL): URL | undefined {
  const to = headers.get("location");
  if (to === null || ![301, 302, 303, 307, 308].includes(status) || !URL.canParse(to, from)) return undefined;
  return new URL(to, from);
}

export function redirectionFailure(url: URL, what: string, status?: number): Failure {
  return new Failure("http", `${withoutQuery(url)} ${what}.`, { status, retryable: false });
}

/** One response of `fetch`. @throws Failure kind "network" where none came */
export async function fetched(server: Server, ask: Ask, url: URL, init: RequestInit): Promise<Response> {
  init.signal?.throwIfAborted(); // while the fields were made, perhaps
  try {
    return await (ask.fetch ?? server.fetch ?? globalThis.fetch)(url, init);
  } catch (cause) {
    throw init.signal?.aborted || !(cause instanceof TypeError) ? cause : noAnswer(url, isOwnOrigin(url), cause);
  }
}

/** `fetch` tells a program no more than that: in a page a refusal by CORS looks like a server that is not there. */
function noAnswer(url: URL, own: boolean, cause: TypeError): Failure {
  const inner = cause.cause as { code?: string; message?: string } | undefined;
  const why = inner?.code ?? inner?.message ?? cause.message;
  const cors = own ? "" : " It may not be reachable, or not let this page read it (CORS): the console says which.";
  return new Failure("network", `No answer came from ${withoutQuery(url)}: ${why}.${cors}`, { cause });
}
