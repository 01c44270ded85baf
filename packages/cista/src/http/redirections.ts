/** Redirections that no browser follows: on a server. WHATWG Fetch, HTTP-redirect fetch. */

import { isTrusted } from "./reach.js";
import { fetched, redirectionFailure, redirectionOf } from "./response.js";
import type { Ask, Server } from "./server.js";

/** Redirections are followed so often. */
const mostRedirections = 20;

/**
 * The answer at the end of the redirections, and where it came from. Headers that a program has for its own server stay with that.
 * @param response the first of them
 */
export async function follow(
  server: Server,
  ask: Ask,
  given: RequestInit,
  response: Response,
): Promise<{ response: Response; landed: URL }> {
  const isRead = (given.method ?? "GET") === "GET";
  let landed = ask.url;
  let init = given;
  for (let count = 0; ; count++) {
    const next = redirectionOf(response, landed);
    if (!next) return { response, landed };
    const { status } = response;
    await response.body?.cancel();
    if (count >= mostRedirections) throw redirectionFailure(ask.url, `redirects more than ${mostRedirections} times`);
    if (next.protocol !== "http:" && next.protocol !== "https:")
      throw redirectionFailure(ask.url, `redirects to ${next.protocol}`);
    const isForeign = next.origin !== landed.origin && !isTrusted(server, next, ask.named);
    if (isForeign && !isRead && ask.followAnywhere !== true) {
      throw redirectionFailure(
        ask.url,
        `redirects to another origin, ${next.origin}, which is not followed. Allow it: followRedirects: true`,
        status,
      );
    }
    init = redirected(init, status);
    if (isForeign) init = { ...init, headers: new Headers(ask.fields), credentials: "omit" };
    landed = next;
    response = await fetched(server, ask, landed, init);
  }
}

/** A POST goes on as a GET, but for 307 and 308; so does anything after 303. */
function redirected({ body, ...rest }: RequestInit, status: number): RequestInit {
  const toGet = status === 303 || (status < 303 && rest.method === "POST");
  return toGet ? { ...rest, method: "GET" } : { ...rest, ...(body === undefined ? {} : { body }) };
}
